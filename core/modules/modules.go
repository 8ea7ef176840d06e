// Package modules knows how the modules of languages are fetched, so that a build has them
// offline: for each language its lock file, the command of its own that downloads what the
// lock file names, what of that is kept, and where the language looks for it in a build.
//
// The command runs in a sandbox whose only way out is a Proxy, which records what was
// downloaded and refuses what the lock file does not name.
package modules

import (
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/files"
)

// Language says how the modules of a language are fetched.
type Language struct {
	Name string
	// Locks are the names of its lock files; the first that is there counts.
	Locks []string
	// Make tells how a lock file is made, for those who have none.
	Make string
	// Download is the shell script that downloads, in the directory of the lock file.
	// $LOCK is the name of the lock file.
	Download string
	// Command is what Download runs.
	Command string
	// Keep lists what is kept, as paths from the top of the tree: "home/…", or "work/…" for
	// the directory of the lock file.
	Keep []string
	// Registry sets the registry in the environment of the download, if one is configured.
	Registry func(address string) map[string]string
	// Online and Offline are the environments of the download and of builds; home is the
	// directory that Keep names so.
	Online, Offline func(home string) map[string]string

	// allow reads a lock file, and returns what decides which downloads it names.
	allow func(lock []byte) (Rule, error)
	// list lists the modules that were kept in the tree.
	list func(tree *os.Root, project string, lock []byte) ([]fact.Module, error)
	// finish readies what was kept, such as by a file with settings.
	finish func(tree *os.Root) error
}

// Rule decides whether the lock file names what was downloaded; the error says why not.
type Rule func(Download) error

var languages = map[string]Language{}

func init() {
	for _, l := range []Language{cargo, goModules, maven, npm, perl, python, ruby, script} {
		languages[l.Name] = l
	}
}

// Of returns the language of that name, one of fact.ModuleLanguages.
func Of(name string) Language { return languages[name] }

// maxLock bounds a lock file, in bytes.
const maxLock = 64 << 20

// Lock reads the lock file of the language in the directory project of a tree. The error is
// a *fact.Error that says which one is missing.
func (l Language) Lock(tree *os.Root, project string) (name string, data []byte, err error) {
	if len(l.Locks) == 0 {
		return "", nil, nil
	}
	for _, name := range l.Locks {
		info, err := tree.Lstat(path.Join(project, name))
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		f, err := tree.Open(path.Join(project, name))
		if err != nil {
			return "", nil, err
		}
		defer f.Close()
		data, err := files.ReadRegular(f, maxLock)
		return name, data, err
	}
	return "", nil, fact.Errorf(fact.StatusInput, "the source has no %s, which says what its modules are and what is in them: %s, and put it beside the recipe as a source of its own", strings.Join(l.Locks, " or "), l.Make)
}

// Rule reads a lock file.
func (l Language) Rule(lock []byte) (Rule, error) {
	if l.allow == nil {
		return func(Download) error { return nil }, nil
	}
	return l.allow(lock)
}

// List lists the modules that are kept in a tree, by their names.
func (l Language) List(tree *os.Root, project string, lock []byte) ([]fact.Module, error) {
	if l.list == nil {
		return []fact.Module{}, nil
	}
	all, err := l.list(tree, project, lock)
	if err != nil {
		return nil, err
	}
	seen := map[string]fact.Module{}
	for _, m := range all {
		if known, ok := seen[m.URL]; !ok || known.License == "" {
			seen[m.URL] = m
		}
	}
	out := []fact.Module{}
	for _, url := range slices.Sorted(maps.Keys(seen)) {
		out = append(out, seen[url])
	}
	return out, nil
}

// Finish readies what was kept in a tree.
func (l Language) Finish(tree *os.Root) error {
	if l.finish == nil {
		return nil
	}
	return l.finish(tree)
}

// readText reads a file of a tree; one that is missing, too large or no file is empty.
func readText(tree *os.Root, name string) []byte {
	info, err := tree.Lstat(name)
	if err != nil || !info.Mode().IsRegular() || info.Size() > maxText {
		return nil
	}
	data, err := tree.ReadFile(name)
	if err != nil {
		return nil
	}
	return data
}

// maxText bounds what is read of one module, in bytes.
const maxText = 4 << 20

// readJSON reads a file of a tree; one that is no JSON is empty.
func readJSON[T any](tree *os.Root, name string) T {
	var v T
	if json.Unmarshal(readText(tree, name), &v) != nil {
		var empty T
		return empty
	}
	return v
}

// walk calls visit with each regular file below a directory of a tree; one that is not there
// has none.
func walk(tree *os.Root, dir string, visit func(name string) error) error {
	if _, err := tree.Lstat(dir); err != nil {
		return nil
	}
	return fs.WalkDir(tree.FS(), dir, func(name string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		return visit(name)
	})
}

// readBounded reads what may be larger than it says.
func readBounded(r io.Reader) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, maxText+1))
	if err == nil && len(data) > maxText {
		err = fmt.Errorf("it is larger than %d bytes", maxText)
	}
	return data, err
}
