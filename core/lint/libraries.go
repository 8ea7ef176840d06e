package lint

import (
	"os"
	"strings"
	"sync"

	"ellwand.example/core/need"
	"ellwand.example/core/probe"
	"ellwand.example/core/scan"
)

// base is the system below packages for a target; nil where it is not known.
func (l *Linter) base(target string) *probe.Base {
	if target != l.Target {
		return nil
	}
	return l.Base
}

// libraries keeps what was read of a base's libraries: the same few stand
// below all packages.
type libraries struct {
	mu  sync.Mutex
	all map[string]*library // nil where there is none
}

func (l *libraries) get(base *probe.Base, soname string) (library, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	found, known := l.all[soname]
	if !known {
		found = readLibrary(base, soname)
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

func readLibrary(base *probe.Base, soname string) *library {
	answer, ok := base.Look(need.Need{Alternatives: []need.Alternative{{Kind: need.Soname, Name: soname}}}, nil)
	if !ok {
		return nil
	}
	f, err := os.Open(base.Real(answer.Path))
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
