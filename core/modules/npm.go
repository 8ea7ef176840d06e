package modules

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"strings"

	"ellwand.example/core/fact"
)

// npm is the package manager of Node.js. Scripts of modules do not run while they are
// downloaded; a build runs them with `npm rebuild`.
var npm = Language{
	Name:     "npm",
	Locks:    []string{"npm-shrinkwrap.json", "package-lock.json"},
	Make:     "run `npm install --package-lock-only` in a copy of the source",
	Command:  "npm",
	Download: "npm ci --ignore-scripts --no-audit --no-fund --no-update-notifier --loglevel=warn\nrm -f node_modules/.package-lock.json",
	Keep:     []string{"work/node_modules"},
	Registry: func(address string) map[string]string {
		return map[string]string{"npm_config_registry": address, "npm_config_replace_registry_host": "always"}
	},
	Online: func(home string) map[string]string {
		return map[string]string{"npm_config_cache": home + "/.npm", "npm_config_cafile": certificatePath(home), "NODE_EXTRA_CA_CERTS": certificatePath(home)}
	},
	Offline: func(home string) map[string]string {
		return map[string]string{"npm_config_cache": home + "/.npm", "npm_config_offline": "true", "npm_config_audit": "false", "npm_config_fund": "false", "npm_config_update_notifier": "false"}
	},
	allow: func(lock []byte) (Rule, error) {
		parsed, err := parseNpmLock(lock)
		if err != nil {
			return nil, err
		}
		sums := map[string]bool{}
		add := func(integrity string) {
			for sum := range strings.FieldsSeq(integrity) {
				algorithm, value, _ := strings.Cut(sum, "-")
				if raw, err := base64.StdEncoding.DecodeString(value); err == nil {
					sums[algorithm+":"+hex.EncodeToString(raw)] = true
				}
			}
		}
		for _, p := range parsed.Packages {
			add(p.Integrity)
		}
		return func(d Download) error {
			if sums["sha512:"+d.SHA512] || sums["sha256:"+d.SHA256] || sums["sha1:"+d.SHA1] {
				return nil
			}
			// What a registry says of a module is at its name, which has one slash at the most.
			if name := strings.Trim(d.Path, "/"); strings.Count(name, "/") <= 1 && !strings.HasSuffix(name, ".tgz") {
				return nil
			}
			return fmt.Errorf("the lock file has no module with its digest")
		}, nil
	},
	list: func(tree *os.Root, project string, lock []byte) ([]fact.Module, error) {
		parsed, err := parseNpmLock(lock)
		if err != nil {
			return nil, err
		}
		var all []fact.Module
		for dir, p := range parsed.Packages {
			at := strings.LastIndex(dir, "node_modules/")
			if at < 0 || p.Link {
				continue
			}
			// Modules for other systems are in the lock file, and were not downloaded.
			stated := readJSON[struct {
				Name    string          `json:"name"`
				Version string          `json:"version"`
				License json.RawMessage `json:"license"`
			}](tree, path.Join(project, path.Clean("/"+dir), "package.json"))
			if stated.Version == "" {
				continue
			}
			name := dir[at+len("node_modules/"):]
			license := ""
			if json.Unmarshal(stated.License, &license) != nil {
				var old struct{ Type string }
				if json.Unmarshal(stated.License, &old) == nil {
					license = old.Type
				}
			}
			all = append(all, fact.Module{Name: name, Version: p.Version, URL: packageURL("npm", name, p.Version), License: license})
		}
		return all, nil
	},
}

// npmLock is package-lock.json; version 1 has dependencies in place of packages.
type npmLock struct {
	Version      int                      `json:"lockfileVersion"`
	Packages     map[string]npmPackage    `json:"packages"` // by their directories
	Dependencies map[string]npmDependency `json:"dependencies"`
}

type npmDependency struct {
	Version      string                   `json:"version"`
	Integrity    string                   `json:"integrity"`
	Dependencies map[string]npmDependency `json:"dependencies"`
}

type npmPackage struct {
	Version   string `json:"version"`
	Integrity string `json:"integrity"`
	Link      bool   `json:"link"`
}

func parseNpmLock(data []byte) (npmLock, error) {
	var lock npmLock
	if err := json.Unmarshal(data, &lock); err != nil {
		return lock, fact.Errorf(fact.StatusInput, "the lock file is no JSON: %v", err)
	}
	if lock.Packages == nil && lock.Dependencies == nil {
		return lock, fact.Errorf(fact.StatusInput, "the lock file names no modules: make it anew with `npm install --package-lock-only`")
	}
	if lock.Packages == nil {
		lock.Packages = map[string]npmPackage{}
		lock.packages("", lock.Dependencies, 0)
	}
	return lock, nil
}

// maxNested bounds how deep modules are in modules.
const maxNested = 100

// packages writes dependencies of version 1 as packages.
func (l npmLock) packages(dir string, all map[string]npmDependency, depth int) {
	for name, d := range all {
		at := path.Join(dir, "node_modules", name)
		l.Packages[at] = npmPackage{Version: d.Version, Integrity: d.Integrity}
		if depth < maxNested {
			l.packages(at, d.Dependencies, depth+1)
		}
	}
}
