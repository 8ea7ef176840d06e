package app

import (
	"errors"
	"os"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/trial"
	"ellwand.example/core/workspace"
)

func TestUnfulfilled(t *testing.T) {
	a := newApp(t, "")
	file := a.pack(t, t.TempDir(), "tide", "1", nil)
	p, err := ell.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	const sum = "5f"
	both := []string{workspace.RequireTrial, workspace.RequireCommitted}
	reasons := func() map[string]string {
		out := map[string]string{}
		for _, u := range a.unfulfilled(both, p, sum) {
			out[u.Requirement] = u.Reason
		}
		return out
	}
	if got := reasons(); got["trial"] != "this very package was not tried" || got["committed"] != "its recipe was in no git repository when it was built" {
		t.Errorf("%v", got)
	}
	report := TrialReport{Checks: []trial.Check{{Package: "tide", Name: trial.Command, Subject: "tide", State: trial.Failed}, {Package: "ebb", Name: trial.Remove, State: trial.Failed}, {Package: "tide", Name: trial.Upgrade, State: trial.Skipped}}}
	if err := a.saveTrial("tide", "tide@1-1", sum, report); err != nil {
		t.Fatal(err)
	}
	p.Build.Revision = &ell.Revision{Commit: "1"}
	if got := reasons(); got["trial"] != "its trial failed: command tide" || got["committed"] != "its recipe had changes that were not committed when it was built" {
		t.Errorf("%v", got)
	}
	if err := a.saveTrial("tide", "tide@1-1", sum, TrialReport{}); err != nil {
		t.Fatal(err)
	}
	p.Build.Revision.Clean = true
	if got := reasons(); len(got) != 0 {
		t.Errorf("%v", got)
	}
	if err := os.WriteFile(a.trialFile(sum), []byte("{"), 0o644); err != nil {
		t.Fatal(err)
	}
	if got := reasons(); got["trial"] == "" {
		t.Error("a damaged result counts as passed")
	}
}

// What a repository requires holds for publishing to it by its name.
func TestRequired(t *testing.T) {
	a := newApp(t, "require = [\"lint\", \"trial\"]\n")
	file := a.pack(t, t.TempDir(), "tide", "1", nil)
	o, err := a.Repository("local", "")
	if err != nil {
		t.Fatal(err)
	}
	var refused *RequirementError
	if err := a.checkFiles(t.Context(), o, []string{file}); !errors.As(err, &refused) || len(refused.Missing) != 1 || refused.Missing[0].Recipe != "tide" {
		t.Errorf("%v", err)
	}
	if err := a.checkFiles(t.Context(), o, []string{"no such file"}); err != nil {
		t.Errorf("what is no package: %v", err)
	}
	other, err := a.Repository(t.TempDir(), "")
	if err != nil {
		t.Fatal(err)
	}
	if err := a.checkFiles(t.Context(), other, []string{file}); err != nil {
		t.Errorf("another repository: %v", err)
	}
}
