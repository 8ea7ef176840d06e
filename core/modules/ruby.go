package modules

import (
	"fmt"
	"os"
	"path"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
)

// ruby are gems that Gemfile.lock names, where Bundler looks for them without a network.
var ruby = Language{
	Name:     "ruby",
	Locks:    []string{"Gemfile.lock"},
	Make:     "run `bundle lock` in a copy of the source",
	Command:  "bundle",
	Download: "bundle config set --local frozen true\nbundle cache --no-install\nrm -rf .bundle",
	Keep:     []string{"work/vendor/cache"},
	Registry: func(address string) map[string]string {
		return map[string]string{"BUNDLE_MIRROR__ALL": address}
	},
	Online: func(home string) map[string]string {
		return map[string]string{"BUNDLE_SSL_CA_CERT": certificatePath(home)}
	},
	Offline: func(string) map[string]string {
		return map[string]string{"BUNDLE_LOCAL": "true", "BUNDLE_FROZEN": "true"}
	},
	allow: func(lock []byte) (Rule, error) {
		named, sums := map[string]bool{}, map[string]bool{}
		for _, m := range lockedGem.FindAllStringSubmatch(string(lock), -1) {
			named[m[1]+"-"+m[2]+".gem"] = true
		}
		for _, m := range gemDigest.FindAllStringSubmatch(string(lock), -1) {
			sums[m[1]] = true
		}
		return func(d Download) error {
			switch name := path.Base(d.Path); {
			case path.Ext(name) != ".gem":
				return nil
			case !named[name]:
				return fmt.Errorf("the lock file does not name it")
			case len(sums) > 0 && !sums[d.SHA256]:
				return fmt.Errorf("the lock file has no gem with its digest")
			}
			return nil
		}, nil
	},
	list: func(tree *os.Root, project string, lock []byte) ([]fact.Module, error) {
		var all []fact.Module
		for _, m := range lockedGem.FindAllStringSubmatch(string(lock), -1) {
			if _, err := tree.Lstat(path.Join(project, "vendor/cache", path.Base(m[1]+"-"+m[2]+".gem"))); err == nil {
				all = append(all, fact.Module{Name: m[1], Version: m[2], URL: packageURL("gem", m[1], strings.TrimSpace(m[2]))})
			}
		}
		return all, nil
	},
}

var (
	lockedGem = pattern.New(`(?m)^    ([A-Za-z0-9._-]+) \(([^)\s]+)\)$`)
	gemDigest = pattern.New(`sha256=([0-9a-f]{64})`)
)
