package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/fact"
	"ellwand.example/core/lint"
	"ellwand.example/core/testtool"
)

// TestExamples tries both examples of every rule with the program, as someone
// would who asks to have a rule explained: the rule finds something in the one,
// and in the other neither it nor any error or warning is found.
func TestExamples(t *testing.T) {
	testtool.Find(t, "cc")
	for _, r := range lint.Rules() {
		t.Run(r.Code, func(t *testing.T) {
			t.Parallel()
			tryExamples(t, r)
		})
	}
}

func tryExamples(t *testing.T, r lint.Rule) {
	top := t.TempDir()
	os.Mkdir(filepath.Join(top, "tmp"), 0o755)
	run := func(dir, command string) (stdout, all string, err error) {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		cmd := exec.CommandContext(ctx, "sh", "-c", command)
		var out, both bytes.Buffer
		cmd.Dir, cmd.Env = dir, environment(top)
		cmd.Stdout, cmd.Stderr = &out, &both
		err = cmd.Run()
		return out.String(), out.String() + both.String(), err
	}
	out, all, err := run(top, "ellwand explain "+r.Code+" --try examples --json")
	if err != nil {
		t.Fatal(err, all)
	}
	var laid struct{ Commands map[string][]string }
	if err := json.Unmarshal([]byte(out), &laid); err != nil {
		t.Fatal(err)
	}
	for _, which := range []string{"wrong", "right"} {
		var findings []fact.Finding
		said := ""
		for i, command := range laid.Commands[which] {
			last := i == len(laid.Commands[which])-1
			if last {
				command += " --json"
			}
			out, all, err := run(filepath.Join(top, "examples", which), command)
			said += "$ " + command + "\n" + all
			if strings.HasPrefix(command, "ellwand build") && err != nil {
				t.Fatalf("%s: %v\n%s", which, err, said)
			}
			if last {
				var found struct{ Findings []fact.Finding }
				if err := json.Unmarshal([]byte(out), &found); err != nil {
					t.Fatalf("%s: %v\n%s", which, err, said)
				}
				findings = found.Findings
			}
		}
		found := slices.ContainsFunc(findings, func(f fact.Finding) bool { return f.Code == r.Code && f.Waived == "" })
		// The gate of a publish reports some before anything is published.
		found = found || r.OfRepositories() && strings.Contains(said, r.Code+"  ")
		switch {
		case which == "wrong" && !found:
			t.Errorf("it finds nothing in its own example:\n%s", said)
		case which == "right":
			for _, f := range findings {
				if f.Code == r.Code || f.Severity != lint.Hint && f.Waived == "" {
					t.Errorf("the good example has %s: %s %s", f.Code, f.Path, f.Message)
				}
			}
			if found {
				t.Errorf("it is reported:\n%s", said)
			}
		}
	}
}
