package modules

import (
	"fmt"
	"os"
	"path"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
)

// perl are distributions that cpanfile.snapshot names.
var perl = Language{
	Name:     "perl",
	Locks:    []string{"cpanfile.snapshot"},
	Make:     "run `carton install` in a copy of the source",
	Command:  "carton",
	Download: "carton bundle",
	Keep:     []string{"work/vendor/cache"},
	Registry: func(address string) map[string]string { return map[string]string{"PERL_CARTON_MIRROR": address} },
	Online:   func(string) map[string]string { return nil },
	Offline:  func(string) map[string]string { return nil },
	allow: func(lock []byte) (Rule, error) {
		named := map[string]bool{}
		for _, m := range lockedDistribution.FindAllStringSubmatch(string(lock), -1) {
			named[path.Base(m[1])] = true
		}
		return func(d Download) error {
			if strings.Contains(d.Path, "/authors/id/") && !named[path.Base(d.Path)] {
				return fmt.Errorf("cpanfile.snapshot does not name it")
			}
			return nil
		}, nil
	},
	list: func(tree *os.Root, project string, lock []byte) ([]fact.Module, error) {
		var all []fact.Module
		for _, m := range lockedDistribution.FindAllStringSubmatch(string(lock), -1) {
			if _, err := tree.Lstat(path.Join(project, "vendor/cache/authors/id", path.Clean("/"+m[1]))); err != nil {
				continue
			}
			base := strings.TrimSuffix(strings.TrimSuffix(path.Base(m[1]), ".tar.gz"), ".tgz")
			if at := strings.LastIndexByte(base, '-'); at > 0 {
				all = append(all, fact.Module{Name: base[:at], Version: base[at+1:], URL: packageURL("cpan", path.Base(path.Dir(m[1]))+"/"+base[:at], base[at+1:])})
			}
		}
		return all, nil
	},
}

var lockedDistribution = pattern.New(`(?m)^\s+pathname: ([A-Z]/[A-Z]{2}/\S+)$`)

// script is for what no other language fits: the recipe says what downloads, and what of it
// is kept. There is no lock file that could be compared with.
var script = Language{
	Name:     fact.ModuleScript,
	Registry: func(string) map[string]string { return nil },
	Online:   func(string) map[string]string { return nil },
	Offline:  func(string) map[string]string { return nil },
}
