// Package root installs packages into a directory tree, and remembers what it
// installed. docs/root.md specifies what it writes.
//
// A change of a root is a transaction: Plan finds out what would happen and what
// prevents it (plan.go, check.go), Apply does it (transaction.go). A journal makes
// sure that a transaction that was interrupted is undone or finished (journal.go).
package root

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"golang.org/x/sys/unix"
)

// Format is the number of the format of a root's state.
const Format = 1

// StateDir is where a root's state is in it.
const StateDir = "var/lib/ellwand"

// Names in StateDir.
const (
	settingsFile = "root.json"
	stateFile    = "state.json"
	lockFile     = "lock"
	objectsDir   = "objects"
	historyDir   = "history"
	journalDir   = "journal"
	pendingFile  = "pending.json"
)

// maxState is the most bytes that are read of a file of the state that has no bound
// of its own.
const maxState = 256 << 20

// Values of Settings.System besides a path.
const (
	SystemNone = "none"
	SystemHost = "host"
)

// Settings is root.json: what a root was created with.
type Settings struct {
	Format int    `json:"format"`
	Target string `json:"target"`
	Arch   string `json:"arch"` // as uname -m prints it
	// System is what the root is based on, below its own files: SystemNone, SystemHost,
	// or the absolute path of a directory.
	System       string       `json:"system"`
	Repositories []Repository `json:"repositories,omitempty"`
	// Without are kinds of path that are not installed: "documentation", or
	// "translation", or "translation=de" for one language.
	Without []string `json:"without,omitempty"`
	// Chosen are the packages that users decided for, by the link of a choice.
	Chosen map[string]string `json:"chosen,omitempty"`
}

// Repository is one that packages come from.
type Repository struct {
	Name     string `json:"name"`
	Address  string `json:"address"` // a URL or an absolute path
	Channel  string `json:"channel"`
	Priority int    `json:"priority,omitempty"`
}

// Root is a directory tree that packages are installed into.
type Root struct {
	Dir      string // as it was given
	Settings Settings

	tree   *os.Root
	state  *os.Root // StateDir
	system *os.Root // of Settings.System; nil if there is none, or it is gone

	disposable bool // see Options
}

// IsRoot reports whether a directory is a root.
func IsRoot(dir string) bool {
	info, err := os.Lstat(filepath.Join(dir, StateDir, settingsFile))
	return err == nil && info.Mode().IsRegular()
}

// NotRootError is a directory that packages cannot be installed into yet.
type NotRootError struct{ Dir string }

func (e *NotRootError) Error() string {
	return fmt.Sprintf("%s is not a root: it has no %s/%s", e.Dir, StateDir, settingsFile)
}

// Action creates one.
func (e *NotRootError) Action() fact.Action {
	return fact.Action{Verb: fact.CreateRoot, Subject: e.Dir}
}

// DamagedError is a file of a root's state that is not what Ellwand wrote.
type DamagedError struct {
	File string
	Err  error
}

func (e *DamagedError) Error() string {
	return fmt.Sprintf("%s is damaged: %v", e.File, e.Err)
}

func (e *DamagedError) Unwrap() error { return e.Err }

// Create makes a directory, which may have files in it, a root.
func Create(dir string, s Settings) (*Root, error) {
	s.Format = Format
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	tree, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	if _, err := tree.Lstat(StateDir + "/" + settingsFile); err == nil {
		return nil, fact.Errorf(fact.StatusInput, "%s is a root already", dir)
	}
	for _, name := range []string{objectsDir, historyDir} {
		if err := tree.MkdirAll(StateDir+"/"+name, 0o755); err != nil {
			return nil, err
		}
	}
	data, err := canonical.Marshal(s)
	if err != nil {
		return nil, err
	}
	state, err := tree.OpenRoot(StateDir)
	if err != nil {
		return nil, err
	}
	defer state.Close()
	if err := writeDurable(state, settingsFile, append(data, '\n')); err != nil {
		return nil, err
	}
	return Open(dir)
}

// Open opens a root, to be closed. The error is a *NotRootError if the directory is
// not one.
func Open(dir string) (*Root, error) {
	tree, err := os.OpenRoot(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &NotRootError{dir}
	}
	if err != nil {
		return nil, err
	}
	r := &Root{Dir: dir, tree: tree}
	if r.state, err = tree.OpenRoot(StateDir); err != nil {
		tree.Close()
		if errors.Is(err, fs.ErrNotExist) {
			return nil, &NotRootError{dir}
		}
		return nil, err
	}
	data, err := readFile(r.state, settingsFile, maxState)
	if err == nil {
		err = r.decode(settingsFile, data, &r.Settings)
	}
	if err == nil && r.Settings.Format != Format {
		err = fact.Errorf(fact.StatusInput, "%s has format %d; this Ellwand reads format %d", r.where(settingsFile), r.Settings.Format, Format)
	}
	if errors.Is(err, fs.ErrNotExist) {
		err = &NotRootError{dir}
	}
	if err != nil {
		r.Close()
		return nil, err
	}
	if dir := r.Settings.SystemDir(); dir != "" {
		// What is installed can be read without it; Begin needs it.
		if system, err := os.OpenRoot(dir); err == nil {
			r.system = system
		}
	}
	return r, nil
}

// SystemDir is the directory of the system that the root is based on; empty for none.
func (s Settings) SystemDir() string {
	switch s.System {
	case SystemNone:
		return ""
	case SystemHost:
		return "/"
	}
	return s.System
}

// Close closes the root's directories.
func (r *Root) Close() error {
	err := errors.Join(r.state.Close(), r.tree.Close())
	if r.system != nil {
		err = errors.Join(err, r.system.Close())
	}
	return err
}

// UpdateSettings changes root.json.
func (r *Root) UpdateSettings(ctx context.Context, change func(*Settings)) error {
	unlock, err := r.lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	change(&r.Settings)
	data, err := canonical.Marshal(r.Settings)
	if err != nil {
		return err
	}
	return writeDurable(r.state, settingsFile, append(data, '\n'))
}

// where is the path of a file of the state, for messages.
func (r *Root) where(name string) string { return filepath.Join(r.Dir, StateDir, name) }

// decode reads JSON of the state, in which no key may be unknown.
func (r *Root) decode(name string, data []byte, v any) error {
	if err := json.Unmarshal(data, v); err != nil {
		return &DamagedError{r.where(name), err}
	}
	return nil
}

// lockEvery is how often a lock that another process holds is tried.
const lockEvery = 20 * time.Millisecond

// lock keeps other changes of the root away. Readers do not wait for it.
func (r *Root) lock(ctx context.Context) (unlock func() error, err error) {
	f, err := r.state.OpenFile(lockFile, os.O_CREATE|os.O_RDWR|openFlags, 0o644)
	if err != nil {
		return nil, err
	}
	for {
		err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		if err == nil {
			return f.Close, nil
		}
		if !errors.Is(err, unix.EWOULDBLOCK) && !errors.Is(err, unix.EINTR) {
			return nil, errors.Join(&fs.PathError{Op: "lock", Path: r.where(lockFile), Err: err}, f.Close())
		}
		select {
		case <-ctx.Done():
			return nil, errors.Join(context.Cause(ctx), f.Close())
		case <-time.After(lockEvery):
		}
	}
}

// readFile reads a regular file of at most limit bytes.
func readFile(dir *os.Root, name string, limit int64) ([]byte, error) {
	f, err := dir.OpenFile(name, os.O_RDONLY|openFlags, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := files.ReadRegular(f, limit)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return data, nil
}

// writeDurable writes a file that appears whole, and survives a power failure.
func writeDurable(dir *os.Root, name string, data []byte) error {
	temp := name + ".new"
	f, err := dir.OpenFile(temp, os.O_CREATE|os.O_TRUNC|os.O_WRONLY|openFlags, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err := dir.Rename(temp, name); err != nil {
		return err
	}
	return syncDir(dir, filepath.Dir(name))
}

// syncDir waits until the entries of a directory are on disk.
func syncDir(dir *os.Root, name string) error {
	f, err := dir.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}
