package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/spf13/cobra"

	"ellwand.example/cli/term"
	"ellwand.example/core/fact"
)

// forTargets makes a command run for each target of --every-target, or of several names in
// --target, one after the other.
func (a *program) forTargets(cmd *cobra.Command) *cobra.Command {
	every := cmd.Flags().Bool("every-target", false, "for every target in ellwand.toml, one after the other")
	run := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if !*every && !strings.Contains(a.target, ",") {
			return run(cmd, args)
		}
		named := a.target
		a.target = ""
		w, err := a.open()
		if err != nil {
			return err
		}
		names, err := targetNames(w, named, *every)
		if err != nil {
			return err
		}
		return a.eachTarget(cmd.Context(), names, func() error { return run(cmd, args) })
	}
	return cmd
}

// targetResult is what a command printed as JSON for one target.
type targetResult struct {
	Target string            `json:"target"`
	Result []json.RawMessage `json:"result"`
	Error  string            `json:"error,omitempty"`
}

// eachTarget runs a command for each target. It goes on after an error, and ends with the
// first.
func (a *program) eachTarget(ctx context.Context, names []string, run func() error) error {
	var first error
	results := []targetResult{}
	for i, name := range names {
		a.target = name
		if !a.json {
			if i > 0 {
				a.out.Printf("\n")
			}
			a.out.Printf("%s\n", a.out.Style(term.Strong, "target "+name))
		}
		a.collected = []json.RawMessage{}
		err := run()
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		one := targetResult{Target: name, Result: a.collected}
		var status statusError
		if err != nil && !errors.As(err, &status) {
			one.Error = err.Error()
			if !a.json {
				a.progress.Together(func() { a.explainError(err) })
			}
			err = statusError(exitStatuses[fact.StatusOf(err)])
		}
		if first == nil {
			first = err
		}
		results = append(results, one)
	}
	a.collected = nil
	if a.json {
		return errors.Join(a.printJSON(results), first)
	}
	return first
}

// suggested matches a command in backquotes that depends on the target.
var suggested = regexp.MustCompile("`ellwand (?:build|plan|needs|trial|lint|publish|show|extract) [^`]+`")

// withTarget adds the target that was asked for to the commands that a text suggests.
func (a *program) withTarget(text string) string {
	if a.target == "" || strings.Contains(a.target, ",") {
		return text
	}
	return suggested.ReplaceAllStringFunc(text, func(command string) string {
		if strings.Contains(command, "--target") || strings.Contains(command, "--help") {
			return command
		}
		return fmt.Sprintf("%s --target %s`", strings.TrimSuffix(command, "`"), a.target)
	})
}
