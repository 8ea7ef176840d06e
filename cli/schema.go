package cli

import (
	"github.com/spf13/cobra"

	"ellwand.example/core/recipe"
)

func (a *program) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print a JSON Schema of recipes, for editors",
		Long: `Print a JSON Schema (draft 2020-12) of the recipe format. Editors that support schemas
for TOML use it to complete and explain keys.`,
		Example: "  ellwand schema > recipe.schema.json",
		Args:    arguments(none),
		RunE: func(*cobra.Command, []string) error {
			data, err := recipe.Schema()
			if err != nil {
				return err
			}
			_, err = a.out.Exact().Write(append(data, '\n'))
			return err
		},
	}
}
