package cli

import (
	"fmt"
	"strings"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/staging"
)

// Directories are summed with all below them; those that only pass on are left
// out, hard links count once.
func TestDirectorySizes(t *testing.T) {
	file := func(path string, size int64, same string) ell.Entry {
		return ell.Entry{Path: path, Type: staging.File, Size: size, Same: same}
	}
	got := directorySizes([]ell.Entry{
		file("/etc/tide.conf", 10, ""), {Path: "/usr", Type: staging.Directory}, file("/usr/bin/tide", 100, ""), file("/usr/bin/tides", 100, "/usr/bin/tide"),
		file("/usr/share/a/deep/x", 50, ""), file("/usr/share/a/deep/y", 60, ""), {Path: "/usr/share/z", Type: staging.Symlink},
	})
	var out []string
	for _, f := range got {
		out = append(out, fmt.Sprintf("%s %d %d", f.Path, f.Bytes, f.Files))
	}
	if all := strings.Join(out, ", "); all != "/ 220 4, /usr 210 3, /usr/share/a/deep 110 2, /usr/bin 100 1, /etc 10 1" {
		t.Error(all)
	}
	for part, want := range map[int64]string{0: "", 1: "▏", 80: "██████████", 159: "███████████████████▉", 160: "████████████████████"} {
		if got := bar(part, 160); got != want {
			t.Errorf("%d of 160 is %q, want %q", part, got, want)
		}
	}
	if bar(5, 0) == "" {
		t.Error("a whole of nothing")
	}
}

func TestGroups(t *testing.T) {
	for _, c := range []struct{ path, kind, mode, want string }{
		{"/usr/bin/tide", "", "0755", groupRun}, {"/usr/lib/libtide.so.1", "", "0644", groupRun}, {"/usr/lib/tide/radio.so", "", "0644", groupRun}, {"/usr/lib/libtide.so", "", "0644", groupBuild},
		{"/usr/include/tide.h", "", "0644", groupBuild}, {"/usr/share/doc/tide/a", fact.KindDocumentation, "0644", groupRead}, {"/usr/share/licenses/x", fact.KindLicense, "0644", groupRead},
		{"/usr/share/locale/de/LC_MESSAGES/x.mo", fact.KindTranslation, "0644", groupLanguages}, {"/etc/tide.conf", fact.KindConfig, "0644", groupSettings}, {"/usr/share/tide/table", "", "0644", groupData},
	} {
		if got := groupOf(ell.Entry{Path: c.path, Kind: c.kind, Mode: c.mode}); got != c.want {
			t.Errorf("%s is among %s, want %s", c.path, got, c.want)
		}
	}
}
