package build

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"

	"github.com/google/renameio/v2"

	"ellwand.example/core/recipe"
)

// keys name everything that a build depends on.
type keys struct {
	stage string // what the staged tree depends on
	whole string // what the packages depend on
}

func (j *job) keys() (keys, error) {
	fixed := map[string]string{}
	for _, v := range j.variables() {
		if !v.local {
			fixed[v.name] = v.value
		}
	}
	var sources []any
	for i, s := range j.recipe.Sources {
		sources = append(sources, []any{j.sources[i].Name, j.sources[i].SHA256, s.Into, s.Skip})
	}
	var laid []string
	for _, l := range j.laid {
		laid = append(laid, l.digest)
	}
	// Scripts may read any file beside the recipe through $ELL_RECIPE.
	beside, err := j.besideDigests()
	if err != nil {
		return keys{}, err
	}
	stage, err := digestOf(map[string]any{
		"ellwand": Version, "scripts": scriptInputs(j.recipe), "environment": fixed, "flags": compileFlags, "sources": sources,
		"needs": laid, "beside": beside, "isolation": j.Runner.Isolation(), "target": j.Workspace.Target,
	})
	if err != nil {
		return keys{}, err
	}
	whole, err := digestOf([]any{stage, j.recipe.Doc.Data, j.recipe.Set, j.Workspace.Packages()})
	return keys{stage, whole}, err
}

// besideDigests are the digests of the files in the recipe's folder, but for
// the recipe itself.
func (j *job) besideDigests() (map[string]string, error) {
	out := map[string]string{}
	err := filepath.Walk(j.recipe.Dir, func(p string, info os.FileInfo, err error) error {
		if err != nil || !info.Mode().IsRegular() {
			return err
		}
		name, err := filepath.Rel(j.recipe.Dir, p)
		if err != nil || name == recipe.FileName {
			return err
		}
		data, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(data)
		out[filepath.ToSlash(name)] = hex.EncodeToString(sum[:])
		return nil
	})
	return out, err
}

// digestOf is the SHA-256 of a value's JSON, in which maps are sorted.
func digestOf(v any) (string, error) {
	data, err := json.Marshal(v)
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:]), err
}

// readJSON reads a file of Ellwand's own state; one that is missing or
// damaged counts as empty, since all state can be made anew.
func readJSON[T any](path string) T {
	var v T
	if data, err := os.ReadFile(path); err == nil && json.Unmarshal(data, &v) != nil {
		var empty T
		return empty
	}
	return v
}

func writeJSON(path string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return renameio.WriteFile(path, append(data, '\n'), 0o644)
}
