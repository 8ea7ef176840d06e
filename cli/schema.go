package cli

import (
	"github.com/spf13/cobra"

	"ellwand.example/core/image"
	"ellwand.example/core/recipe"
)

func (a *program) schemaCommand() *cobra.Command {
	var ofImages bool
	cmd := &cobra.Command{
		Use:   "schema",
		Short: "Print a JSON Schema of recipes or images, for editors",
		Long: `Print a JSON Schema (draft 2020-12) of the recipe format, or with --image of images/NAME.toml.
Editors that support schemas for TOML use it to complete and explain keys.`,
		Example: `  ellwand schema > recipe.schema.json
  ellwand schema --image > image.schema.json`,
		Args: arguments(none),
		RunE: func(*cobra.Command, []string) error {
			schema := recipe.Schema
			if ofImages {
				schema = image.Schema
			}
			data, err := schema()
			if err != nil {
				return err
			}
			_, err = a.out.Exact().Write(append(data, '\n'))
			return err
		},
	}
	cmd.Flags().BoolVar(&ofImages, "image", false, "of the descriptions of images")
	return cmd
}
