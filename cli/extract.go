package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"

	"github.com/spf13/cobra"

	"ellwand.example/core/pack"
	"ellwand.example/term"
)

func (a *app) extractCommand() *cobra.Command {
	var to string
	cmd := &cobra.Command{
		Use:   "extract PACKAGE [PATH...]",
		Short: "Unpack a package, or some of its paths",
		Long: `Unpack a package into a folder named like it, or into --to. With PATHs, only
these: a path stands for all that is below it, and may be a pattern. Nothing that
is there is written over, and nothing is written outside of the folder.

Root gives files to the owners that the package names, as far as the machine
knows them.`,
		Example: `  ellwand extract tidegauge
  ellwand extract tidegauge /usr/bin /etc --to looked-at`,
		Args: arguments(func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return fmt.Errorf("%s needs a package", cmd.CommandPath())
			}
			return nil
		}),
		ValidArgsFunction: completePackages,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.openPackage(args[0])
			if err != nil {
				return err
			}
			defer p.Close()
			dir := to
			if dir == "" {
				dir = p.Facts.Identity()
			}
			return a.extract(cmd.Context(), p, args[1:], dir)
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the folder to unpack into (default: a new one named like the package)")
	cmd.MarkFlagDirname("to")
	return cmd
}

func (a *app) extract(ctx context.Context, p *pack.Package, words []string, dir string) error {
	entries, err := p.Layout()
	if err != nil {
		return err
	}
	chosen := entries
	if len(words) > 0 {
		if chosen, err = pack.Choose(entries, words); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if len(words) > 0 {
		err = p.ExtractSome(ctx, dir, chosen)
	} else {
		err = p.Extract(ctx, dir)
	}
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%w\nnothing is written over: name another folder with --to", err)
	}
	if err != nil {
		return err
	}
	unknown, err := setOwners(dir, chosen)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"folder": dir, "paths": len(chosen), "unknown_owners": unknown})
	}
	a.out.Printf("%s  %s of %s\n", a.out.Style(term.Name, dir), term.Count(len(chosen), "path", "paths"), p.Facts.Identity())
	for _, name := range unknown {
		a.out.Printf("  there is no %s on this machine: its files stay yours\n", name)
	}
	return nil
}

// setOwners gives what was unpacked to whom the package says, if root asks. It
// returns the names that the machine does not know.
func setOwners(dir string, entries []pack.Entry) (unknown []string, err error) {
	unknown = []string{}
	if os.Geteuid() != 0 {
		return unknown, nil
	}
	number := func(kind, name string, look func(string) (string, error)) int {
		text, err := look(name)
		n, errText := strconv.Atoi(text)
		if err != nil || errText != nil {
			if s := kind + " " + name; !slices.Contains(unknown, s) {
				unknown = append(unknown, s)
			}
			return -1
		}
		return n
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	for _, e := range entries {
		uid := number("user", e.Owner, func(s string) (string, error) {
			u, err := user.Lookup(s)
			if err != nil {
				return "", err
			}
			return u.Uid, nil
		})
		gid := number("group", e.Group, func(s string) (string, error) {
			g, err := user.LookupGroup(s)
			if err != nil {
				return "", err
			}
			return g.Gid, nil
		})
		name := filepath.Clean("." + e.Path)
		info, err := root.Lstat(name)
		if err != nil {
			return nil, err
		}
		if err := root.Lchown(name, uid, gid); err != nil {
			return nil, err
		}
		// A new owner takes setuid away.
		if info.Mode()&fs.ModeSymlink == 0 {
			if err := root.Chmod(name, info.Mode()); err != nil {
				return nil, err
			}
		}
	}
	return unknown, nil
}
