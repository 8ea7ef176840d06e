package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact/version"
)

// orderedJSON is a version in its place.
type orderedJSON struct {
	Version string `json:"version"`
	Equal   bool   `json:"equal"`         // in rank to the one before it
	Why     string `json:"why,omitempty"` // it does not stand before that one
}

func (a *program) orderCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "order [VERSION...]",
		Short: "Sort versions and explain the order",
		Long: `Sort versions, the oldest first, and explain why each comes after the one before. A
version may have an epoch and a release: 1:2.4.1-3. Without arguments, versions are
read from standard input, one per line. docs/versions.md describes the order.`,
		Example: `  ellwand order 1.10 1.2 1.0~rc1 1.0
  ellwand order 2031.04.02 1:0.9`,
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				in := bufio.NewScanner(os.Stdin)
				for in.Scan() {
					if word := strings.TrimSpace(in.Text()); word != "" {
						args = append(args, word)
					}
				}
				if errors.Is(in.Err(), bufio.ErrTooLong) {
					return fmt.Errorf("line %d of standard input has more than %d bytes, so it is not a version", len(args)+1, bufio.MaxScanTokenSize)
				}
				if in.Err() != nil {
					return fmt.Errorf("standard input: %w", in.Err())
				}
			}
			versions := make([]version.Full, len(args))
			written := map[version.Full]string{} // as it was given
			for i, arg := range args {
				f, err := version.ParseFull(arg)
				if err != nil {
					return err
				}
				versions[i], written[f] = f, arg
			}
			slices.SortStableFunc(versions, func(x, y version.Full) int {
				// One without a release equals all, which are not equal.
				return cmp.Or(x.Compare(y), cmp.Compare(x.Release, y.Release))
			})
			out := make([]orderedJSON, len(versions))
			for i, v := range versions {
				out[i].Version = written[v]
				if i > 0 {
					out[i].Equal, out[i].Why = versions[i-1].Compare(v) == 0, version.Why(versions[i-1], v)
				}
			}
			if a.json {
				return a.printJSON(out)
			}
			width := 0
			for _, o := range out {
				width = max(width, len(o.Version))
			}
			for i, o := range out {
				sign := " "
				switch {
				case i == 0:
				case o.Equal:
					sign = "="
				default:
					sign = "<"
				}
				a.out.Printf("%s\n", strings.TrimRight(fmt.Sprintf("%s %-*s  %s", a.out.Style(term.Faint, sign), width, o.Version, a.out.Style(term.Faint, o.Why)), " "))
			}
			return nil
		},
	}
}
