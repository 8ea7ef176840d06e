package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"ellwand.example/cli/term"
	"ellwand.example/core/lint"
)

// layOutExamples makes workspaces of a rule's examples, in the directories wrong
// and right of a new directory.
func (a *program) layOutExamples(r lint.Rule, dir string) error {
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		return fmt.Errorf("%w: name a directory that is not there yet", err)
	}
	commands := map[string][]string{}
	for name, text := range map[string]string{"wrong": r.Wrong, "right": r.Right} {
		e := lint.Workspace(text)
		in := filepath.Join(dir, name)
		if e.Before != nil {
			// The earlier state is built and published before the other files
			// take the place of its own.
			if err := writeFiles(in, e.Before); err != nil {
				return err
			}
			if err := writeFiles(filepath.Join(in, "next"), e.Files); err != nil {
				return err
			}
			commands[name] = append(commands[name], "ellwand build tide", "ellwand publish --all", "cp -r next/. .", "rm -r next")
		} else if err := writeFiles(in, e.Files); err != nil {
			return err
		}
		if r.OfPackages() {
			commands[name] = append(commands[name], "ellwand build --all")
		}
		if e.Then != "" {
			if err := os.WriteFile(filepath.Join(in, "then.sh"), []byte(e.Then), 0o644); err != nil {
				return err
			}
			commands[name] = append(commands[name], "sh then.sh")
		}
		switch {
		case r.OfRepositories():
			commands[name] = append(commands[name], "ellwand lint repository")
		case r.OfPackages():
			commands[name] = append(commands[name], "ellwand lint packages")
		default:
			commands[name] = append(commands[name], "ellwand lint tide")
		}
	}
	if a.json {
		return a.printJSON(map[string]any{"directory": dir, "commands": commands})
	}
	for _, name := range []string{"wrong", "right"} {
		a.out.Printf("%s, to be tried with:\n", a.out.Style(term.Strong, filepath.Join(dir, name)))
		for _, c := range commands[name] {
			a.out.Printf("  %s\n", c)
		}
	}
	return nil
}

func writeFiles(dir string, files map[string]string) error {
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(files[name]), 0o644); err != nil {
			return err
		}
	}
	return nil
}
