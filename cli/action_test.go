package cli

import (
	"io"
	"strings"
	"testing"

	"ellwand.example/core/fact"
)

// Every action has a command line that the program understands, and advice that
// names it.
func TestActions(t *testing.T) {
	for _, a := range []fact.Action{
		{Verb: fact.Build, Subject: "tide"}, {Verb: fact.Build}, {Verb: fact.BuildUntil, Subject: "tide", Detail: "unpack"}, {Verb: fact.FetchSources, Subject: "tide"},
		{Verb: fact.PinSources, Subject: "tide"}, {Verb: fact.RaiseRelease, Subject: "tide"}, {Verb: fact.StartWorkspace}, {Verb: fact.StartRepository, Subject: "local"},
		{Verb: fact.ShowHistory, Subject: "local", Detail: "stable"}, {Verb: fact.Verify, Subject: "local"}, {Verb: fact.ForgetSeen, Subject: "local"}, {Verb: fact.WithoutIsolation},
		{Verb: fact.WatchNeeds, Subject: "tide"}, {Verb: fact.ShowPlan}, {Verb: fact.MakeIndex, Subject: "local"}, {Verb: fact.Prune, Subject: "local"},
	} {
		line := commandFor(a)
		words := strings.Fields(line)
		root := (&program{}).root(io.Discard, io.Discard)
		cmd, rest, err := root.Find(words[1:])
		if err != nil || cmd == root || words[0] != "ellwand" {
			t.Errorf("%s: %v", line, err)
			continue
		}
		if err := cmd.ParseFlags(rest); err != nil {
			t.Errorf("%s: %v", line, err)
		}
		if a.Subject != "" && !strings.Contains(line, a.Subject) {
			t.Errorf("%s does not name %s", line, a.Subject)
		}
		if text := advice(a); a.Verb != fact.WithoutIsolation && !strings.Contains(text, line) {
			t.Errorf("%q does not contain %s", text, line)
		}
	}
}
