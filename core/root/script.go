package root

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"ellwand.example/core/fact"
)

// Names of the scripts of packages.
const (
	preInstall  = "pre-install"
	postInstall = "post-install"
	preRemove   = "pre-remove"
	postRemove  = "post-remove"
)

// The environment of a script, beside PATH, HOME and LC_ALL. A version is empty if there
// is none before or after.
const (
	EnvPackage    = "ELLWAND_PACKAGE"
	EnvOldVersion = "ELLWAND_OLD_VERSION"
	EnvNewVersion = "ELLWAND_NEW_VERSION"
	// EnvRepeated is 1 if the script was started before and did not succeed.
	EnvRepeated = "ELLWAND_REPEATED"
)

// Stages of a script in a transaction.
const (
	scriptWaiting = "waiting"
	scriptStarted = "started"
	scriptDone    = "done"
	scriptFailed  = "failed"
)

// ScriptCall is a script of a package that a transaction runs.
type ScriptCall struct {
	Package string `json:"package"`
	Script  string `json:"script"` // "post-install", say
	Old     string `json:"old,omitempty"`
	New     string `json:"new,omitempty"`

	Text     string `json:"text,omitempty"`
	State    string `json:"state,omitempty"`
	Output   string `json:"output,omitempty"` // the end of it
	Repeated bool   `json:"repeated,omitempty"`
}

// Env is the script's own part of the environment.
func (s ScriptCall) Env() []string {
	env := []string{EnvPackage + "=" + s.Package, EnvOldVersion + "=" + s.Old, EnvNewVersion + "=" + s.New}
	if s.Repeated {
		env = append(env, EnvRepeated+"=1")
	}
	return env
}

// Runner runs the scripts of packages in a root, and programs that refresh databases.
type Runner interface {
	// Script runs a script under sh -eu and returns the end of its output.
	Script(ctx context.Context, name, text string, env []string) (output string, err error)
}

// ScriptError is a script that failed.
type ScriptError struct {
	Call ScriptCall
	Err  error
	Root string // its directory
	// Undone means that the transaction was undone: nothing was installed.
	Undone bool
}

// Action runs the script again, if it is one that runs after everything is installed.
func (e *ScriptError) Action() fact.Action {
	if e.Undone {
		return fact.Action{}
	}
	return fact.Action{Verb: fact.FinishRoot, Subject: e.Root}
}

func (e *ScriptError) Error() string {
	text := fmt.Sprintf("the %s script of %s %v", e.Call.Script, e.Call.Package, e.Err)
	if e.Undone {
		text += "; nothing was changed by the transaction"
	}
	return text
}

func (e *ScriptError) Unwrap() error { return e.Err }

// Status is that of a failed step.
func (e *ScriptError) Status() fact.Status { return fact.StatusStep }

// planScripts lists the scripts that will run. An upgrade runs those of the new
// version; the old one's pre-remove and post-remove run only when the package goes.
func (t *Transaction) planScripts(_ context.Context, p *Plan, _ Request) error {
	for _, name := range []string{preRemove, preInstall, postRemove, postInstall} {
		for _, one := range p.parts {
			of := one.record
			if name == preRemove || name == postRemove {
				if of = one.old; one.record != nil {
					continue
				}
			}
			if of == nil || of.Scripts[name] == "" {
				continue
			}
			call := ScriptCall{Package: one.change.Name, Script: name, Text: of.Scripts[name], State: scriptWaiting}
			if one.change.From != nil {
				call.Old = one.change.From.Full().String()
			}
			if one.change.To != nil {
				call.New = one.change.To.Full().String()
			}
			p.Scripts = append(p.Scripts, call)
		}
	}
	return nil
}

func (s ScriptCall) isSame(other ScriptCall) bool {
	return s.Package == other.Package && s.Script == other.Script
}

// isBefore reports whether a script runs before anything is placed.
func (s ScriptCall) isBefore() bool { return s.Script == preInstall || s.Script == preRemove }

// scriptsFile records how far the scripts of a transaction are.
const scriptsFile = journalDir + "/scripts.json"

func (r *Root) saveScripts(name string, calls []ScriptCall) error {
	data, err := json.Marshal(calls)
	if err != nil {
		return err
	}
	return writeDurable(r.state, name, data)
}

func (r *Root) loadScripts(name string) ([]ScriptCall, error) {
	data, err := readFile(r.state, name, maxState)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var calls []ScriptCall
	return calls, r.decode(name, data, &calls)
}

// runScripts runs those of calls that are chosen, in order. Each is recorded before it
// starts and after it ended, so that none is run twice without its knowing. The error
// is of the first that failed; later ones run nevertheless, unless stop is set.
func (t *Transaction) runScripts(ctx context.Context, calls []ScriptCall, chosen func(ScriptCall) bool, stop bool) error {
	var first error
	for i := range calls {
		c := &calls[i]
		if !chosen(*c) || c.State == scriptDone {
			continue
		}
		c.Repeated = c.State != scriptWaiting
		c.State = scriptStarted
		if err := t.root.saveScripts(scriptsFile, calls); err != nil {
			return err
		}
		output, err := t.runner.Script(ctx, c.Package+" "+c.Script, c.Text, c.Env())
		c.Output = output
		if err != nil && ctx.Err() != nil {
			return context.Cause(ctx) // it stays started
		}
		c.State = scriptDone
		if err != nil {
			c.State = scriptFailed
			if first == nil {
				first = &ScriptError{Call: *c, Err: err, Root: t.root.Dir}
			}
		}
		if err := t.root.saveScripts(scriptsFile, calls); err != nil {
			return err
		}
		if first != nil && stop {
			return first
		}
	}
	return first
}

// Pending lists scripts that failed and have not been run again.
func (r *Root) Pending() ([]ScriptCall, error) { return r.loadScripts(pendingFile) }

// keepPending records the scripts that failed, beside those of packages that this
// transaction did not touch.
func (t *Transaction) keepPending(calls []ScriptCall, changed map[string]bool) error {
	pending, err := t.root.Pending()
	if err != nil {
		return err
	}
	pending = slices.DeleteFunc(pending, func(c ScriptCall) bool {
		return changed[c.Package] || slices.ContainsFunc(calls, c.isSame)
	})
	for _, c := range calls {
		if c.State == scriptFailed && !c.isBefore() {
			pending = append(pending, c)
		}
	}
	if len(pending) == 0 {
		err := t.root.state.Remove(pendingFile)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	return t.root.saveScripts(pendingFile, pending)
}
