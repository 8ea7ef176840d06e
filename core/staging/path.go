// Package staging reads staging directories, and describes the paths in them as a
// package has them.
package staging

import (
	"fmt"
	"io/fs"
	"strings"

	"ellwand.example/core/fact"
)

// Type is what a path is.
type Type string

// The types of path that a package can hold.
const (
	File      Type = "file"
	Directory Type = "dir"
	Symlink   Type = "symlink"
)

// Path is one path that was staged.
type Path struct {
	Path string // absolute, as it will be installed
	Type Type
	Mode fs.FileMode // permission bits, with setuid, setgid and sticky
	Size int64       // of a file, in bytes
	Link string      // target of a symbolic link
	Disk string      // where it is now
	// Xattrs are the extended attributes of a file or directory that a package
	// can carry.
	Xattrs map[string][]byte
	// Inode is the same for two paths that are hard links to one file; zero
	// for a file with one name.
	Inode Inode
}

// Inode names a file on the machine.
type Inode struct{ Dev, Ino uint64 }

// Claim is a path that belongs to a package, with what the package says of it.
type Claim struct {
	Path
	Kind         string // one of fact.Kinds, or empty
	Owner, Group string
	Line         int // of the recipe; 0 where a default applies
}

// Root is the owner and group of paths for which none is named.
const Root = "root"

// DefaultKind is the kind of a path if the layout names none; empty for most.
func DefaultKind(p string) string {
	for _, d := range []struct{ dir, kind string }{
		{"/usr/share/licenses/", fact.KindLicense}, {"/usr/share/man/", fact.KindDocumentation},
		{"/usr/share/doc/", fact.KindDocumentation}, {"/usr/share/info/", fact.KindDocumentation}, {"/usr/share/locale/", fact.KindTranslation},
	} {
		if strings.HasPrefix(p, d.dir) {
			return d.kind
		}
	}
	return ""
}

// shared are directories of the Filesystem Hierarchy Standard 3.0 that belong
// to the system, not to a package.
var shared = func() map[string]bool {
	m := map[string]bool{}
	for _, d := range strings.Fields(`/bin /boot /dev /etc /etc/opt /home /lib /lib64 /media /mnt /opt /root /run /sbin /srv /tmp
		/usr /usr/bin /usr/include /usr/lib /usr/lib32 /usr/lib64 /usr/libexec /usr/local /usr/sbin /usr/share /usr/src
		/usr/lib/pkgconfig /usr/share/pkgconfig /usr/share/man /usr/share/doc /usr/share/info /usr/share/licenses /usr/share/locale
		/usr/share/applications /usr/share/icons /usr/share/pixmaps /usr/lib/systemd /usr/lib/systemd/system
		/var /var/cache /var/lib /var/lock /var/log /var/mail /var/opt /var/run /var/spool /var/tmp`) {
		m[d] = true
	}
	for i := 1; i <= 8; i++ {
		m[fmt.Sprintf("/usr/share/man/man%d", i)] = true
	}
	return m
}()

// IsShared reports whether a directory belongs to the system as a whole.
func IsShared(dir string) bool { return shared[dir] }
