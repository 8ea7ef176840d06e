package root

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"

	"context"

	"golang.org/x/sys/unix"

	"ellwand.example/core/fact"
	"ellwand.example/core/staging"
)

// A journal is written before anything else, under the first name: a transaction that
// ends then is undone. Renaming it to the second name commits the transaction: from then
// on, it is finished.
const (
	prepareFile = journalDir + "/prepare.json"
	commitFile  = journalDir + "/commit.json"
)

// journal is everything that is needed to undo a transaction, or to finish it.
type journal struct {
	Format int `json:"format"`
	// Made are new directories, with everything in them, and Temps new files and links.
	Made  []string `json:"made"`
	Temps []string `json:"temps"`
	// Early goes before the renames, Removals after them.
	Early       []removal   `json:"early,omitempty"`
	Renames     []rename    `json:"renames"`
	Removals    []removal   `json:"removals"`
	Directories []directory `json:"directories,omitempty"`

	State   json.RawMessage `json:"state"` // the new state.json
	Entry   Entry           `json:"entry"` // of the history
	Scripts []ScriptCall    `json:"scripts,omitempty"`
	Changed []string        `json:"changed"` // packages
}

// rename is a path that gets another name, in place of what has it.
type rename struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// directory is an existing directory whose mode and owner change; -1 leaves a number.
type directory struct {
	Path string `json:"path"`
	Mode string `json:"mode"`
	UID  int    `json:"uid"`
	GID  int    `json:"gid"`
}

// Recovery is what was done about a transaction that was interrupted.
type Recovery struct {
	Action   string `json:"action"`   // what the transaction was
	Finished bool   `json:"finished"` // otherwise it was undone
	// Ran are scripts that had run, or been started, before it was undone.
	Ran []ScriptCall `json:"ran,omitempty"`
	// Entry is the history's, and Err a script's failure, if it was finished.
	Entry *Entry `json:"entry,omitempty"`
	Err   error  `json:"-"`
}

func (r *Root) writeJournal(name string, j *journal) error {
	if err := r.state.MkdirAll(journalDir, 0o755); err != nil {
		return err
	}
	data, err := json.Marshal(j)
	if err != nil {
		return err
	}
	return writeDurable(r.state, name, data)
}

// commitJournal is the point at which a transaction becomes one that is finished.
func (r *Root) commitJournal() error {
	if err := r.state.Rename(prepareFile, commitFile); err != nil {
		return err
	}
	return syncDir(r.state, journalDir)
}

func (r *Root) readJournal(name string) (*journal, error) {
	data, err := readFile(r.state, name, maxState)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	j := &journal{}
	if err := r.decode(name, data, j); err != nil {
		return nil, err
	}
	if err := j.check(); err != nil {
		return nil, &DamagedError{r.where(name), err}
	}
	return j, nil
}

// check refuses a journal that could touch what no transaction touches.
func (j *journal) check() error {
	if j.Format != Format {
		return fmt.Errorf("it has format %d", j.Format)
	}
	paths := slices.Concat(j.Made, j.Temps)
	for _, r := range slices.Concat(j.Early, j.Removals) {
		paths = append(paths, r.Path)
	}
	for _, r := range j.Renames {
		paths = append(paths, r.From, r.To)
	}
	for _, d := range j.Directories {
		if paths = append(paths, d.Path); !fact.IsMode(d.Mode) {
			return fmt.Errorf("%q is not a mode", d.Mode)
		}
	}
	for _, p := range paths {
		if !isClean(p) || isOwn(p) {
			return fmt.Errorf("%q cannot be a path of a package", p)
		}
	}
	return nil
}

// clearJournal ends a transaction.
func (r *Root) clearJournal() error {
	if _, err := r.state.Lstat(journalDir); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	// The journal itself goes first: what is left of the directory means nothing.
	for _, name := range []string{commitFile, prepareFile} {
		if err := r.state.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if err := r.state.RemoveAll(journalDir); err != nil {
		return err
	}
	return syncDir(r.state, ".")
}

// recover undoes or finishes a transaction that was interrupted.
func (t *Transaction) recover(ctx context.Context) (*Recovery, error) {
	if j, err := t.root.readJournal(commitFile); err != nil || j != nil {
		if err != nil {
			return nil, err
		}
		done := &Recovery{Action: j.Entry.Action, Finished: true}
		done.Entry, err = t.finish(ctx, j, false)
		var failed *ScriptError
		if errors.As(err, &failed) {
			done.Err, err = err, nil
		}
		return done, err
	}
	j, err := t.root.readJournal(prepareFile)
	if err != nil {
		return nil, err
	}
	if j == nil {
		// What is left of the directory is of a transaction that was done.
		return nil, t.root.clearJournal()
	}
	scripts, err := t.root.loadScripts(scriptsFile)
	if err != nil {
		return nil, err
	}
	done := &Recovery{Action: j.Entry.Action}
	for _, c := range scripts {
		if c.State != scriptWaiting {
			done.Ran = append(done.Ran, c)
		}
	}
	return done, t.root.undo(j)
}

// undo removes what a transaction wrote before it was committed.
func (r *Root) undo(j *journal) error {
	for _, p := range j.Temps {
		if err := r.tree.Remove(local(p)); err != nil && !errors.Is(err, fs.ErrNotExist) && !isNotDir(err) {
			return err
		}
	}
	for _, p := range j.Made {
		if err := r.tree.RemoveAll(local(p)); err != nil {
			return err
		}
	}
	return r.clearJournal()
}

// removeDir removes a directory if it is empty; what is no directory stays.
func (r *Root) removeDir(p string) error {
	info, there, err := r.exists(p)
	if err != nil || !there || !info.IsDir() {
		return err
	}
	err = r.tree.Remove(local(p))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTEMPTY) || errors.Is(err, fs.ErrExist) || errors.Is(err, unix.EBUSY) {
		return nil
	}
	return err
}

// redo does everything between the commit and the scripts. Each step does nothing if it
// was done before; fresh says that none was.
func (r *Root) redo(j *journal, fresh bool) error {
	renamed := map[string]bool{} // by an earlier attempt
	if !fresh {
		switched, err := r.isSwitched(j)
		if err != nil || switched {
			return err
		}
		for _, n := range j.Renames {
			if _, there, err := r.exists(n.From); err != nil {
				return err
			} else if !there {
				renamed[n.To] = true
			}
		}
	}
	for _, gone := range j.Early {
		// What is there now may be what took its place.
		if renamed[gone.Path] || r.isBelowRenamed(gone.Path, renamed) {
			continue
		}
		if err := r.removePath(gone); err != nil {
			return err
		}
	}
	dirs := map[string]bool{}
	open := newHandles(r.tree)
	for _, n := range j.Renames {
		dirs[path.Dir(n.To)] = true
		if renamed[n.To] {
			continue
		}
		// Both are in one directory.
		err := open.in(n.From, func(dir *os.Root, name string) error { return dir.Rename(name, path.Base(n.To)) })
		if errors.Is(err, fs.ErrExist) || errors.Is(err, unix.ENOTEMPTY) {
			err = r.mergeDir(n.From, n.To)
		}
		if err != nil {
			open.Close()
			return err
		}
	}
	open.Close()
	for _, gone := range j.Removals {
		dirs[path.Dir(gone.Path)] = true
		if r.isBelowRenamed(gone.Path, renamedTo(j)) {
			continue // it went early, and something else has its name now
		}
		if err := r.removePath(gone); err != nil {
			return err
		}
	}
	for _, d := range j.Directories {
		if err := r.setDirectory(d); err != nil {
			return err
		}
	}
	for _, dir := range sortedKeys(dirs) {
		if r.disposable {
			break
		}
		if err := syncDir(r.tree, local(dir)); err != nil && !errors.Is(err, fs.ErrNotExist) && !isNotDir(err) && !errors.Is(err, unix.EINVAL) {
			return err
		}
	}
	// The history's entry comes first: whoever reads the new state finds it.
	if err := r.writeEntry(j.Entry); err != nil {
		return err
	}
	return writeDurable(r.state, stateFile, append(slices.Clone(j.State), '\n'))
}

// mergeDir moves what is in a new directory into one that somebody made in its place
// after the plan was made.
func (r *Root) mergeDir(from, to string) error {
	dir, err := r.tree.Open(local(from))
	if err != nil {
		return err
	}
	names, err := dir.Readdirnames(-1)
	if err = errors.Join(err, dir.Close()); err != nil {
		return err
	}
	for _, name := range names {
		source, target := path.Join(from, name), path.Join(to, name)
		err := r.tree.Rename(local(source), local(target))
		if errors.Is(err, fs.ErrExist) || errors.Is(err, unix.ENOTEMPTY) {
			err = r.mergeDir(source, target)
		}
		if err != nil {
			return err
		}
	}
	return r.tree.Remove(local(from))
}

// isSwitched reports whether the root has the state of a journal already: everything but
// the scripts is done.
func (r *Root) isSwitched(j *journal) (bool, error) {
	data, err := readFile(r.state, stateFile, maxState)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil || string(data) != string(j.State)+"\n" {
		return false, err
	}
	// The state may be the same before and after, if files were only written again.
	for _, n := range j.Renames {
		if _, there, err := r.exists(n.From); err != nil || there {
			return false, err
		}
	}
	return true, nil
}

func renamedTo(j *journal) map[string]bool {
	to := map[string]bool{}
	for _, n := range j.Renames {
		to[n.To] = true
	}
	return to
}

// isBelowRenamed reports whether a path, or a directory above it, is where something was
// renamed to.
func (r *Root) isBelowRenamed(p string, renamed map[string]bool) bool {
	for ; p != "/"; p = path.Dir(p) {
		if renamed[p] {
			return true
		}
	}
	return false
}

// removePath removes what a package had, if it is still of that type.
func (r *Root) removePath(gone removal) error {
	info, there, err := r.exists(gone.Path)
	if err != nil || !there || !isType(info, gone.Type) {
		return err
	}
	switch {
	case gone.Type == staging.Directory && gone.All:
		err = r.tree.RemoveAll(local(gone.Path))
	case gone.Type == staging.Directory:
		err = r.removeDir(gone.Path)
	default:
		err = r.tree.Remove(local(gone.Path))
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// setDirectory changes the mode and owner of an existing directory.
func (r *Root) setDirectory(d directory) error {
	f, err := r.tree.Open(local(d.Path))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	if d.UID >= 0 || d.GID >= 0 {
		if err := f.Chown(d.UID, d.GID); err != nil && !errors.Is(err, fs.ErrPermission) {
			return err
		}
	}
	return f.Chmod(fact.ParseMode(d.Mode))
}
