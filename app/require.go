package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/trial"
	"ellwand.example/core/workspace"
)

// RequirementError reports packages that a repository does not take because of what its
// configuration requires. Nothing was changed.
type RequirementError struct {
	Repository string
	Missing    []Unfulfilled
}

// Unfulfilled is a requirement that a package does not fulfill.
type Unfulfilled struct {
	Package     string `json:"package"`
	Recipe      string `json:"recipe"`
	Requirement string `json:"requirement"` // of workspace.Requirements
	Reason      string `json:"reason"`
	// Channel is where a package comes from that fails only beside those of another
	// channel.
	Channel string `json:"channel,omitempty"`
}

func (e *RequirementError) Error() string {
	var lines []string
	for _, m := range e.Missing {
		lines = append(lines, fmt.Sprintf("%s: %s", m.Package, m.Reason))
	}
	return fmt.Sprintf("repository %s requires more of these packages:\n  %s", e.Repository, strings.Join(lines, "\n  "))
}

// Status is that of findings.
func (e *RequirementError) Status() fact.Status { return fact.StatusFindings }

// required lists what the configuration of a repository requires of packages, beside
// lint.
func (a *App) required(o Opened) []string {
	r, _ := a.configured(o.Name)
	return slices.DeleteFunc(slices.Clone(r.Require), func(s string) bool { return s == workspace.RequireLint })
}

// checkFiles checks packages that are to be published against the requirements.
func (a *App) checkFiles(ctx context.Context, o Opened, names []string) error {
	required := a.required(o)
	if len(required) == 0 {
		return nil
	}
	refused := &RequirementError{Repository: o.Name}
	for _, file := range names {
		p, err := ell.Open(file)
		if err != nil {
			continue // the publish reports it
		}
		sum, err := files.SHA256(ctx, file)
		if err == nil {
			refused.Missing = append(refused.Missing, a.unfulfilled(required, p, sum)...)
		}
		if err = errors.Join(err, p.Close()); err != nil {
			return err
		}
	}
	if len(refused.Missing) > 0 {
		return refused
	}
	return nil
}

// unfulfilled lists which requirements a package does not fulfill.
func (a *App) unfulfilled(required []string, p *ell.Package, sha256 string) (out []Unfulfilled) {
	add := func(requirement, reason string) {
		out = append(out, Unfulfilled{Package: p.Facts.Identity(), Recipe: p.Facts.Recipe, Requirement: requirement, Reason: reason})
	}
	if slices.Contains(required, workspace.RequireTrial) {
		switch result, err := a.trialResult(sha256); {
		case errors.Is(err, fs.ErrNotExist):
			add(workspace.RequireTrial, "this very package was not tried")
		case err != nil:
			add(workspace.RequireTrial, err.Error())
		case len(result.Failed) > 0:
			add(workspace.RequireTrial, "its trial failed: "+strings.Join(result.Failed, ", "))
		}
	}
	if slices.Contains(required, workspace.RequireCommitted) {
		switch revision := p.Build.Revision; {
		case revision == nil:
			add(workspace.RequireCommitted, "its recipe was in no git repository when it was built")
		case !revision.Clean:
			add(workspace.RequireCommitted, "its recipe had changes that were not committed when it was built")
		}
	}
	return out
}

// Promote gives a channel the packages of another, after those that it does not have yet
// are checked against what the repository requires. Errors are *RequirementError and those
// of repo.Repository.Promote.
func (a *App) Promote(ctx context.Context, o Opened, from, to string, names []string, options repo.ChangeOptions, sink progress.Sink) (repo.Change, error) {
	if required := a.required(o); len(required) > 0 {
		if err := a.checkPromoted(ctx, o, from, to, names, required); err != nil {
			return repo.Change{}, err
		}
	}
	return o.Repository.Promote(ctx, from, to, names, options, sink)
}

func (a *App) checkPromoted(ctx context.Context, o Opened, from, to string, names []string, required []string) error {
	source, err := o.At(ctx, from)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	state, err := o.At(ctx, to)
	if err == nil {
		for _, records := range state.Records {
			for _, r := range records {
				there[r.SHA256] = true
			}
		}
	}
	refused := &RequirementError{Repository: o.Name}
	for _, records := range source.Records {
		for _, r := range records {
			if there[r.SHA256] || len(names) > 0 && !slices.ContainsFunc(names, r.IsNamed) {
				continue
			}
			missing, err := a.checkRecord(ctx, o, r, required)
			if err != nil {
				return err
			}
			refused.Missing = append(refused.Missing, missing...)
		}
	}
	if len(refused.Missing) > 0 {
		return refused
	}
	if !slices.Contains(required, workspace.RequireTrial) {
		return nil
	}
	// What works alone may not work beside the rest of the channel.
	target := a.Workspace.Target.Name
	set := newestOf(state.Records[target])
	come := 0
	for name, r := range newestOf(source.Records[target]) {
		if !there[r.SHA256] && (len(names) == 0 || slices.ContainsFunc(names, r.IsNamed)) {
			set[name] = r
			come++
		}
	}
	if come == 0 {
		return nil
	}
	report, err := a.trialRecords(ctx, o, set, TrialOptions{})
	if err != nil {
		return err
	}
	for _, c := range report.Failed() {
		refused.Missing = append(refused.Missing, Unfulfilled{
			Package: c.Package, Requirement: workspace.RequireTrial, Channel: from,
			Reason: fmt.Sprintf("in %s, together with its packages, the check %s fails: %s", to, strings.TrimSpace(c.Name+" "+c.Subject), strings.ReplaceAll(c.Message, "\n", "; ")),
		})
	}
	if len(refused.Missing) > 0 {
		return refused
	}
	return nil
}

// newestOf finds the newest package of each name, by name.
func newestOf(records []index.Record) map[string]index.Record {
	out := map[string]index.Record{}
	for _, r := range records {
		if have, ok := out[r.Name]; !ok || have.Full().Compare(r.Full()) < 0 {
			out[r.Name] = r
		}
	}
	return out
}

// trialRecords tries packages of a repository, all together.
func (a *App) trialRecords(ctx context.Context, o Opened, set map[string]index.Record, options TrialOptions) (TrialReport, error) {
	words, err := recordFiles(ctx, o, set)
	if err != nil {
		return TrialReport{}, err
	}
	return a.Trial(ctx, words, options)
}

// recordFiles lists the files of packages of a repository, by name, after bringing them
// here.
func recordFiles(ctx context.Context, o Opened, set map[string]index.Record) (out []string, err error) {
	for _, name := range slices.Sorted(maps.Keys(set)) {
		p, err := o.Package(ctx, set[name])
		if err != nil {
			return nil, err
		}
		out = append(out, p.Path)
		if err := p.Close(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// TrialChannel tries the newest packages of a channel for the workspace's target, all
// together.
func (a *App) TrialChannel(ctx context.Context, o TrialOptions) (TrialReport, error) {
	all, err := a.Repositories("", o.Channel)
	if err != nil {
		return TrialReport{}, err
	}
	var words []string
	for _, repository := range all {
		if repository.Disabled {
			continue
		}
		state, err := repository.At(ctx, o.Channel)
		if err != nil {
			return TrialReport{}, err
		}
		found, err := recordFiles(ctx, repository, newestOf(state.Records[a.Workspace.Target.Name]))
		if err != nil {
			return TrialReport{}, err
		}
		words = append(words, found...)
	}
	if len(words) == 0 {
		return TrialReport{}, fact.Errorf(fact.StatusInput, "channel %s has no packages for %s", o.Channel, a.Workspace.Target.Name)
	}
	return a.Trial(ctx, words, o)
}

func (a *App) checkRecord(ctx context.Context, o Opened, r index.Record, required []string) ([]Unfulfilled, error) {
	p, err := o.Package(ctx, r)
	if err != nil {
		return nil, err
	}
	return a.unfulfilled(required, p, r.SHA256), p.Close()
}

// trialResult is what a workspace remembers of a trial.
type trialResult struct {
	Package string    `json:"package"`
	Time    time.Time `json:"time"`
	System  string    `json:"system"`
	Failed  []string  `json:"failed,omitempty"` // checks
}

func (a *App) trialFile(sha256 string) string {
	return a.Workspace.State("trial-results", sha256+".json")
}

// saveTrial remembers the result of a package, which its digest names.
func (a *App) saveTrial(name, identity, sha256 string, report TrialReport) error {
	r := trialResult{Package: identity, Time: time.Now().UTC().Truncate(time.Second), System: report.System}
	for _, c := range report.Checks {
		if c.Package == name && c.State == trial.Failed {
			r.Failed = append(r.Failed, strings.TrimSpace(c.Name+" "+c.Subject))
		}
	}
	data, err := json.Marshal(r)
	if err != nil {
		return err
	}
	file := a.trialFile(sha256)
	if err := files.MkdirAll(filepath.Dir(file)); err != nil {
		return err
	}
	return files.Write(file, append(data, '\n'))
}

func (a *App) trialResult(sha256 string) (r trialResult, err error) {
	data, err := os.ReadFile(a.trialFile(sha256))
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(data, &r)
}
