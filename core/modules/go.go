package modules

import (
	"archive/zip"
	"fmt"
	"os"
	"path"
	"strings"

	"golang.org/x/mod/module"

	"ellwand.example/core/fact"
	"ellwand.example/core/inspect/license/recognize"
	"ellwand.example/core/pattern"
)

// goDownloads is where the go command keeps what it downloaded.
const goDownloads = "home/go/pkg/mod/cache/download"

// goModules are modules of Go: what go.sum names, as the go command keeps it.
var goModules = Language{
	Name:     "go",
	Locks:    []string{"go.sum"},
	Make:     "run `go mod tidy` in a copy of the source",
	Command:  "go",
	Download: "go mod download",
	Keep:     []string{goDownloads},
	Registry: func(address string) map[string]string { return map[string]string{"GOPROXY": address} },
	Online: func(home string) map[string]string {
		return map[string]string{"GOPATH": home + "/go", "GOFLAGS": "-mod=mod -modcacherw", "GOSUMDB": "off", "GOTOOLCHAIN": "local", "GOVCS": "*:git"}
	},
	Offline: func(home string) map[string]string {
		return map[string]string{"GOPATH": home + "/go", "GOPROXY": "off", "GOSUMDB": "off", "GOTOOLCHAIN": "local"}
	},
	allow: func(lock []byte) (Rule, error) {
		named := map[string]bool{}
		for line := range strings.Lines(string(lock)) {
			if f := strings.Fields(line); len(f) == 3 {
				named[f[0]+"@"+strings.TrimSuffix(f[1], "/go.mod")] = true
			}
		}
		return func(d Download) error {
			before, after, ok := strings.Cut(d.Path, "/@v/")
			if !ok {
				return nil // a page that leads to a module, or the module's repository
			}
			version := strings.TrimSuffix(after, path.Ext(after))
			// The registry may be below a directory.
			for name, more := strings.TrimPrefix(before, "/"), true; more; _, name, more = strings.Cut(name, "/") {
				if plain, err := module.UnescapePath(name); err == nil && named[plain+"@"+version] {
					return nil
				}
			}
			return fmt.Errorf("go.sum does not name %s at version %s", strings.TrimPrefix(before, "/"), version)
		}, nil
	},
	// The go command compares what it downloads with go.sum. What it notes besides is not the
	// same everywhere, and no build needs it.
	finish: func(tree *os.Root) error {
		var extra []string
		err := walk(tree, goDownloads, func(name string) error {
			switch path.Ext(name) {
			case ".mod", ".zip", ".ziphash":
			default:
				extra = append(extra, name)
			}
			return nil
		})
		for _, name := range extra {
			if err == nil {
				err = tree.Remove(name)
			}
		}
		return err
	},
	list: func(tree *os.Root, _ string, _ []byte) ([]fact.Module, error) {
		var all []fact.Module
		err := walk(tree, goDownloads, func(file string) error {
			escaped, v, ok := strings.Cut(strings.TrimPrefix(file, goDownloads+"/"), "/@v/")
			if !ok || path.Ext(v) != ".zip" {
				return nil
			}
			name, err := module.UnescapePath(escaped)
			if err != nil {
				return err
			}
			v = strings.TrimSuffix(v, ".zip")
			all = append(all, fact.Module{Name: name, Version: v, URL: packageURL("golang", name, v), License: zipLicense(tree, file, name+"@"+v)})
			return nil
		})
		return all, err
	},
}

// zipLicense recognises the license of a module from the text at the top of its zip file.
func zipLicense(tree *os.Root, file, top string) string {
	f, err := tree.Open(file)
	if err != nil {
		return ""
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return ""
	}
	z, err := zip.NewReader(f, info.Size())
	if err != nil {
		return ""
	}
	for _, entry := range z.File {
		if name := strings.TrimPrefix(entry.Name, top+"/"); strings.Contains(name, "/") || !licenseFile.MatchString(name) {
			continue
		}
		r, err := entry.Open()
		if err != nil {
			return ""
		}
		text, err := readBounded(r)
		r.Close()
		if err != nil {
			return ""
		}
		if ids, err := recognize.Licenses(text); err == nil && len(ids) == 1 {
			return ids[0]
		}
	}
	return ""
}

// licenseFile matches the names of files with the text of a license.
var licenseFile = pattern.New(`(?i)^(licen[cs]e|copying)`)
