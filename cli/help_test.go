package cli

import (
	"bytes"
	"context"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
)

// prepared are commands that the examples of others take for granted, in the demo's
// workspace, by the command or the group that they are for.
var prepared = map[string]string{
	"root":    "ellwand root create stations -q && ellwand root install stations saltmarsh-stations libharmonic@1.4.2-1 -q && ellwand root install stations tidegauge@2.4.1-3 -q",
	"import":  "ellwand export tidegauge --out . -q && mv tidegauge@2.4.1-4.recipe.ell tidegauge@2.4.1-3.recipe.ell && rm -r recipes/tidegauge",
	"compare": "git init -q && git -c user.name=Ines -c user.email=ines@saltmarsh.example commit -q --allow-empty -m First && git add recipes && git -c user.name=Ines -c user.email=ines@saltmarsh.example commit -qm Second",
	"rewind":  twoChannels, "list": twoChannels, "history": twoChannels, "audit": twoChannels, "publish": twoChannels,
}

// twoChannels publishes and promotes.
const twoChannels = "ellwand publish packages/*/libharmonic*@1.4.3* --to local -q && ellwand promote local testing stable -q && ellwand publish packages/*/tidegauge*@2.4.1-4* --to local -q && ellwand promote local testing stable -q"

// endless are commands that run until they are stopped.
var endless = []string{"ellwand serve"}

// TestHelpExamples runs every example of every help text in the demo's workspace. They
// succeed, or end with findings.
func TestHelpExamples(t *testing.T) {
	dir := t.TempDir()
	os.Mkdir(filepath.Join(dir, "tmp"), 0o755)
	demo := exec.Command(filepath.Join(programDir, "ellwand"), "demo", "salt")
	demo.Dir, demo.Env = dir, environment(dir)
	if out, err := demo.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	root := (&program{}).root(io.Discard, io.Discard)
	each(root, func(c *cobra.Command) {
		if c.Example == "" || c.Name() == "demo" || c.Name() == "completion" {
			return // TestScripts has the demo
		}
		t.Run(strings.TrimPrefix(c.CommandPath(), "ellwand "), func(t *testing.T) {
			t.Parallel()
			tryHelp(t, filepath.Join(dir, "salt"), c)
		})
	})
}

func tryHelp(t *testing.T, demo string, c *cobra.Command) {
	top := t.TempDir()
	work := filepath.Join(top, "salt")
	if out, err := exec.Command("cp", "-a", demo, work).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	os.Mkdir(filepath.Join(top, "tmp"), 0o755)
	run := func(line string) (int, string) {
		limit := time.Minute
		for _, e := range endless {
			if strings.HasPrefix(line, e) {
				limit = 2 * time.Second
			}
		}
		ctx, cancel := context.WithTimeout(t.Context(), limit)
		defer cancel()
		cmd := exec.CommandContext(ctx, "sh", "-c", "exec "+line)
		if strings.ContainsAny(line, "&|;>") {
			cmd = exec.CommandContext(ctx, "sh", "-c", line)
		}
		var out bytes.Buffer
		cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr, cmd.WaitDelay = work, environment(top), &out, &out, time.Second
		err := cmd.Run()
		if limit < time.Minute && ctx.Err() != nil {
			return 0, out.String() // it would go on
		}
		if err != nil && cmd.ProcessState == nil {
			t.Fatal(err)
		}
		return cmd.ProcessState.ExitCode(), out.String()
	}
	group := strings.Fields(c.CommandPath())[1]
	if before := prepared[group]; before != "" && c.Name() != "create" && (group != "root" || c.Name() != "root") {
		if status, out := run(before); status != 0 {
			t.Fatalf("%s: status %d\n%s", before, status, out)
		}
	}
	if c.Name() == "init" {
		work = top // workspaces cannot be nested
	}
	for line := range strings.Lines(c.Example) {
		line = strings.TrimSpace(line)
		if line == "" || strings.Contains(line, ".example") {
			continue // a made-up host
		}
		if _, err := exec.LookPath("dot"); err != nil && strings.Contains(line, "| dot ") {
			continue // a program to draw graphs with, which the tests do without
		}
		status, out := run(line)
		if strings.Contains(line, "--allow") && strings.Contains(out, "nothing was found that") {
			continue // it takes a finding to accept
		}
		if status == statusUsage && strings.Contains(out, "standard input is not a terminal") || status == statusInput && strings.Contains(out, "a shell needs a terminal") {
			continue
		}
		if status != statusDone && status != statusFindings {
			t.Errorf("%s: status %d\n%s", line, status, out)
		}
	}
}
