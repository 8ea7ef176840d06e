package build

import (
	"fmt"
	"os"
	"path/filepath"

	"ellwand.example/core/need"
	"ellwand.example/core/sandbox"
)

// baseRoot is the folder of the system that steps see; empty for the machine
// itself.
func (b *Builder) baseRoot() string {
	if s, ok := b.Runner.(sandbox.Namespaces); ok {
		return s.Base
	}
	return ""
}

// answer describes what of the base meets a need, so that another compiler or
// another version of a library is seen to be another. It is empty where
// nothing does.
func (b *Builder) answer(n need.Need) string {
	found, ok := b.probe().Look(n, nil)
	if !ok || !found.Enough {
		return ""
	}
	return stamp(b.probe().Real(found.Path))
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
