package build

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"ellwand.example/core/need"
	"ellwand.example/core/sandbox"
)

// pkgconfigDirs are where pkg-config files stand.
var pkgconfigDirs = []string{"usr/lib/*/pkgconfig", "usr/lib64/pkgconfig", "usr/lib/pkgconfig", "usr/share/pkgconfig", "usr/local/lib/pkgconfig", "usr/local/share/pkgconfig"}

// answer describes what of the base meets a need, so that another compiler or
// another version of a library is seen to be another. It is empty where
// nothing is found.
func (b *Builder) answer(n need.Need) string {
	root := "/"
	if s, ok := b.Runner.(sandbox.Namespaces); ok && s.Base != "" {
		root = s.Base
	}
	for _, a := range n.Alternatives {
		switch a.Kind {
		case need.Command:
			for dir := range strings.SplitSeq(searchPath, ":") {
				if s := stamp(filepath.Join(root, dir, a.Name)); s != "" {
					return s
				}
			}
		case need.PkgConfig:
			for _, dir := range pkgconfigDirs {
				found, _ := filepath.Glob(filepath.Join(root, dir, a.Name+".pc"))
				for _, file := range found {
					if data, err := os.ReadFile(file); err == nil {
						return fmt.Sprintf("%s %x", file, sha256.Sum256(data))
					}
				}
			}
		case need.File:
			return stamp(filepath.Join(root, a.Name))
		case need.Header:
			return stamp(filepath.Join(root, "usr/include", a.Name))
		}
	}
	return ""
}

// stamp tells one file from another by that name, without reading it.
func stamp(path string) string {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return ""
	}
	info, err := os.Stat(real)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("%s %d %d", real, info.Size(), info.ModTime().UnixNano())
}
