package build

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/revision"
)

// keys names everything that the build depends on: the steps that do
// something, with their keys, and the key of the packages.
func (j *job) keys(ctx context.Context) (chain []stepKey, whole string, err error) {
	fixed := map[string]string{}
	for _, v := range j.variables("") {
		if !v.local {
			fixed[v.name] = v.value
		}
	}
	var laid []string
	for _, l := range j.laid {
		laid = append(laid, l.Digest)
	}
	beside, err := j.besideDigests(ctx)
	if err != nil {
		return nil, "", err
	}
	below := ""
	for _, step := range recipe.StepNames[:len(recipe.StepNames)-1] {
		script := j.recipe.Script(step)
		inputs := map[string]any{"ellwand": Version(), "below": below, "step": step, "isolation": j.Runner.Isolation(), "rewrites": rewritesAfter(j.recipe, step)}
		switch {
		case step == recipe.Unpack:
			inputs["name"] = j.recipe.Name
			inputs["sources"], inputs["patches"] = j.sourceInputs(), j.patchInputs(beside)
			if j.laysInto() {
				inputs["needs"] = laid
			}
			if triplet := j.cross(); triplet != "" {
				inputs["cross"] = []string{triplet, j.Workspace.Target.Arch}
			}
		case step == recipe.Test && !j.runsTests():
			continue // what it would run is for another machine
		case script == "" && len(rewritesAfter(j.recipe, step)) == 0:
			continue
		default:
			inputs["script"], inputs["environment"], inputs["flags"], inputs["debug"] = script, fixed, j.compileFlags(), j.splitsDebug()
			if len(j.recipe.Steps.Allow) > 0 {
				inputs["allow"] = j.recipe.Steps.Allow
			}
			inputs["needs"], inputs["system"], inputs["target"] = laid, j.answers, []any{j.Workspace.Target, j.Root}
			if seesRecipe(script) {
				inputs["beside"] = beside
			}
		}
		if below, err = digestOf(inputs); err != nil {
			return nil, "", err
		}
		chain = append(chain, stepKey{step, below})
	}
	// Packages tell where in its history the recipe was: one that was committed
	// since is packed again, and nothing more.
	at, _ := revision.Of(ctx, j.recipe.Dir)
	whole, err = digestOf([]any{at, below, j.recipe.Doc.Data, j.recipe.Set, j.Workspace.Packages(), beside, j.Workspace.Target})
	return chain, whole, err
}

func (j *job) sourceInputs() []any {
	out := []any{}
	for i, s := range j.recipe.Sources {
		out = append(out, []any{sourceRecord(j.sources[i]), s.Into, s.Skip})
	}
	return out
}

func (j *job) patchInputs(beside map[string]string) []any {
	out := []any{}
	for _, p := range j.recipe.Patches {
		out = append(out, []any{p.Into, beside[p.File]})
	}
	return out
}

func rewritesAfter(r *recipe.Recipe, step string) []recipe.Rewrite {
	out := []recipe.Rewrite{}
	for _, w := range r.Rewrites {
		if w.After == step {
			out = append(out, w)
		}
	}
	return out
}

// seesRecipe reports whether a script reads files beside the recipe. Only
// those that name the directory have it, so that a change to a file there makes
// no other step run again.
func seesRecipe(script string) bool { return strings.Contains(script, "ELL_RECIPE") }

// largeFile is from how many bytes on a file's digest is remembered.
const largeFile = 1 << 20

// besideDigests are the digests of the files in the recipe's directory, but for
// the recipe itself.
func (j *job) besideDigests(ctx context.Context) (map[string]string, error) {
	out := map[string]string{}
	err := filepath.Walk(j.recipe.Dir, func(p string, info os.FileInfo, err error) error {
		if err != nil || !info.Mode().IsRegular() {
			return err
		}
		name, err := filepath.Rel(j.recipe.Dir, p)
		if err != nil || name == recipe.FileName {
			return err
		}
		digest := files.SHA256
		if info.Size() >= largeFile {
			digest = files.Known{Path: filepath.Join(j.state, "known.json")}.SHA256
		}
		out[filepath.ToSlash(name)], err = digest(ctx, p)
		return err
	})
	return out, err
}

// digestOf is the SHA-256 of a value's JSON, in which maps are sorted.
func digestOf(v any) (string, error) {
	data, err := json.Marshal(v)
	return fact.SHA256(data), err
}

// readJSON reads a file of Ellwand's own state; one that is missing or
// damaged counts as empty, since all state can be made again.
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
	return files.Write(path, append(data, '\n'))
}
