// Package satisfy finds out what meets the dependencies of recipes, and brings in
// packages that do.
package satisfy

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/needs/probe"
	"ellwand.example/core/progress"
	"ellwand.example/core/workspace"
)

// Resolver finds out what meets the dependencies of a workspace's recipes: its own
// packages, the system that steps see, and the workspace's repositories.
type Resolver struct {
	Workspace *workspace.Workspace
	Root      string // directory of the system; empty for this machine
	Progress  progress.Sink

	catalogue catalogue
	probing   sync.Once
	probed    *probe.System
}

// Probe looks into the system.
func (b *Resolver) Probe() *probe.System {
	b.probing.Do(func() { b.probed = probe.OpenFor(b.Root, b.Workspace.Cross()) })
	return b.probed
}

// SystemStamp identifies what in the system meets a dependency, so that another
// compiler or another version of a library makes a difference. It is empty if
// nothing does.
func (b *Resolver) SystemStamp(n need.Need) string {
	found, ok := b.Probe().Look(n, nil)
	if !ok || !found.Enough {
		return ""
	}
	return Stamp(b.Probe().Real(found.Path))
}

// Stamp tells one file from another by that name, without reading it.
func Stamp(path string) string {
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
