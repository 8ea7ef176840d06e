package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"ellwand.example/core/bom"
	"ellwand.example/core/fact"
)

// Forms of a bill of materials.
const (
	formSPDX       = "spdx"
	formCycloneDX  = "cyclonedx"
	formProvenance = "provenance"
)

var bomForms = []string{formSPDX, formCycloneDX, formProvenance}

func (a *program) bomCommand() *cobra.Command {
	var form, output string
	cmd := &cobra.Command{
		Use:   "bom PACKAGE|ROOT|IMAGE|REPO@CHANNEL",
		Short: "Print a software bill of materials",
		Long: `Print what a package, a root, an image, or a channel of a repository consists of: packages with
their licenses, digests, files, sources and modules, what they depend on, what they were built with, and
the recipe. The forms are SPDX 2.3 and CycloneDX 1.6, in JSON; --form provenance prints how a package was
built, as an in-toto statement with the predicate of SLSA 1.0, which is not signed.

The concluded license is that of the texts in the package, if they are recognized. Files are left out
of the bill of a channel. The same input gives the same bytes.`,
		Example: `  ellwand bom tidegauge
  ellwand bom harbour --form cyclonedx -o harbour.cdx.json
  ellwand bom tidegauge --form provenance
  ellwand bom local@testing`,
		Args:              arguments(exactlyOne("a package, a root, an image, or REPO@CHANNEL")),
		ValidArgsFunction: a.completeShown,
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains(bomForms, form) {
				return usageError{fmt.Errorf("--form is one of %s, not %q", strings.Join(bomForms, ", "), form)}
			}
			u, err := a.appIfAny()
			if err != nil {
				return err
			}
			bill, err := u.Bill(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			var data []byte
			switch form {
			case formSPDX:
				data, err = bill.SPDX()
			case formCycloneDX:
				data, err = bill.CycloneDX()
			default:
				if bill.Subject.Kind != bom.KindPackage {
					return fact.Errorf(fact.StatusUsage, "provenance is of one package, and %s is %s", args[0], article[bill.Subject.Kind])
				}
				data, err = bill.Packages[0].Provenance()
			}
			if err != nil {
				return err
			}
			if output == "" {
				_, err = a.out.Exact().Write(data)
				return err
			}
			if err := renameio.WriteFile(output, data, 0o644); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"file": output, "packages": len(bill.Packages)})
			}
			a.out.Printf("%s  %s\n", output, fact.Count(len(bill.Packages), "package", "packages"))
			return nil
		},
	}
	cmd.Flags().StringVar(&form, "form", formSPDX, "the `FORM`: "+strings.Join(bomForms, ", "))
	cmd.Flags().StringVarP(&output, "output", "o", "", "write it to a `FILE`")
	cmd.RegisterFlagCompletionFunc("form", cobra.FixedCompletions(bomForms, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// article has the kinds of what a bill is of, with their articles.
var article = map[string]string{bom.KindRoot: "a root", bom.KindImage: "an image", bom.KindChannel: "a channel"}
