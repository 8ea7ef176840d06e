package cli

import (
	"github.com/spf13/cobra"

	"ellwand.example/core/workspace"
)

func (a *program) initCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "init [DIR]",
		Short: "Start a workspace",
		Long: `Start a workspace in DIR, or in the current directory: a directory recipes/ and a file
ellwand.toml whose comments explain the settings. Existing files are not changed.`,
		Example: "  ellwand init my-packages",
		Args:    arguments(atMostOne),
		RunE: func(_ *cobra.Command, args []string) error {
			dir := "."
			if len(args) > 0 {
				dir = args[0]
			}
			w, err := workspace.Init(dir)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]string{"workspace": w.Dir, "target": w.Target.Name})
			}
			a.out.Printf("started a workspace in %s\n", w.Dir)
			a.out.Printf("  %s   the configuration, explained in comments\n", workspace.SettingsFile)
			a.out.Printf("  %s/       a directory for each recipe\n", workspace.RecipesDir)
			a.out.Printf("Packages are made for the target %s, this system; [build] target in %s sets another.\n", w.Target.Name, workspace.SettingsFile)
			a.out.Printf("Next: `ellwand draft SOURCE` writes a first recipe from an archive, directory or URL;\n`ellwand explain recipe` prints one to start with by hand.\n")
			return nil
		},
	}
}
