package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// commandReference is the page with every command: what its --help says.
func commandReference() string {
	var b strings.Builder
	b.WriteString("# Commands\n\nThis page is made from the program: `ellwand COMMAND --help` prints the same. Every command has `--json` for the same facts as\ndata, `-q` and `-v`, and an example that runs on the demo (`ellwand demo`).\n\n")
	b.WriteString("| exit status | |\n|---|---|\n| 0 | done |\n| 1 | findings, or differences |\n| 2 | usage error |\n| 3 | bad input |\n| 4 | a step failed |\n| 5 | the machine lacks something |\n| 130 | interrupted |\n")
	root := (&program{}).root(io.Discard, io.Discard)
	var write func(c *cobra.Command)
	write = func(c *cobra.Command) {
		fmt.Fprintf(&b, "\n### %s\n\n%s.\n\n", c.CommandPath(), c.Short)
		if c.Long != "" {
			fmt.Fprintf(&b, "%s\n\n", reflow(c.Long, maxHelpWidth))
		}
		fmt.Fprintf(&b, "```\n%s\n", c.UseLine())
		if c.Example != "" {
			fmt.Fprintf(&b, "\n%s\n", strings.TrimRight(c.Example, "\n"))
		}
		b.WriteString("```\n")
		c.InitDefaultHelpFlag()
		if flags := c.NonInheritedFlags().FlagUsagesWrapped(maxHelpWidth); flags != "" {
			fmt.Fprintf(&b, "\n```\n%s```\n", flags)
		}
		for _, sub := range c.Commands() {
			write(sub)
		}
	}
	for _, group := range root.Groups() {
		fmt.Fprintf(&b, "\n## %s\n", strings.TrimSuffix(group.Title, ":"))
		for _, c := range root.Commands() {
			if c.GroupID == group.ID && c.Name() != "help" && c.Name() != "completion" {
				write(c)
			}
		}
	}
	return b.String()
}

// docs/commands.md is what the commands' own help says. With -update it is written
// again.
func TestCommandReference(t *testing.T) {
	const file = "../docs/commands.md"
	want := commandReference()
	if *update {
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := os.ReadFile(file); err != nil || string(got) != want {
		t.Errorf("%s is not what the commands say (%v): `go test ./cli -run TestCommandReference -update` writes it", file, err)
	}
}

// Every command has a summary, an example and a text that fits 80 columns.
func TestHelpFits(t *testing.T) {
	t.Setenv("COLUMNS", "80")
	root := (&program{}).root(io.Discard, io.Discard)
	var check func(c *cobra.Command)
	check = func(c *cobra.Command) {
		var out strings.Builder
		c.SetOut(&out)
		c.InitDefaultHelpFlag()
		if err := c.Help(); err != nil {
			t.Error(err)
		}
		for line := range strings.SplitSeq(out.String(), "\n") {
			if len([]rune(line)) > 80 {
				t.Errorf("%s: %d columns: %s", c.CommandPath(), len([]rune(line)), line)
			}
		}
		if c.Short == "" || strings.HasSuffix(c.Short, ".") || c.Example == "" && !c.HasSubCommands() && c.Name() != "help" {
			t.Errorf("%s: summary %q, example %q", c.CommandPath(), c.Short, c.Example)
		}
		if c.Name() == "completion" || c.Name() == "help" {
			return // the library's
		}
		for _, sub := range c.Commands() {
			check(sub)
		}
	}
	check(root)
}
