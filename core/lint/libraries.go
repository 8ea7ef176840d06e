package lint

import (
	"os"
	"strings"
	"sync"

	"ellwand.example/core/fact/need"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/needs/probe"
)

// system is the system that packages for a target are installed on; nil if it is
// unknown.
func (l *Linter) system(target string) *probe.System {
	if target != l.Target {
		return nil
	}
	return l.System
}

// libraries keeps what was read of a system's libraries: the same few stand
// below all packages.
type libraries struct {
	mu  sync.Mutex
	all map[string]*library // nil if there is none
}

func (l *libraries) get(system *probe.System, soname string) (library, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	found, known := l.all[soname]
	if !known {
		found = readLibrary(system, soname)
		if l.all == nil {
			l.all = map[string]*library{}
		}
		l.all[soname] = found
	}
	if found == nil {
		return library{}, false
	}
	return *found, true
}

func readLibrary(system *probe.System, soname string) *library {
	answer, ok := system.Look(need.Of(need.Alternative{Kind: need.Soname, Name: soname}), nil)
	if !ok {
		return nil
	}
	f, err := os.Open(system.Real(answer.Path))
	if err != nil {
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil
	}
	found, err := scan.Contents(answer.Path, f, info.Size())
	if err != nil || found.ELF == nil || found.ELF.Broken != "" {
		return nil
	}
	exports, err := scan.Exported(f)
	if err != nil {
		return nil
	}
	return &library{unversioned(exports), found.ELF.Needed}
}

// unversioned takes the versions off symbols.
func unversioned(symbols []string) []string {
	out := make([]string, len(symbols))
	for i, s := range symbols {
		out[i], _, _ = strings.Cut(s, "@")
	}
	return out
}
