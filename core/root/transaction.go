package root

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"ellwand.example/core/ell"
	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
)

// tempPrefix begins the names of files that are not in their place yet.
const tempPrefix = ".ellwand-"

// Options say how a transaction works.
type Options struct {
	Runner   Runner
	Progress progress.Sink
	// Disposable is for a root that nobody keeps: it is not waited until its files are on
	// disk.
	Disposable bool
}

// Transaction is a change of a root, which keeps others away until it is closed.
type Transaction struct {
	// Recovered is what was left by a transaction that was interrupted; nil if none was.
	Recovered *Recovery

	root     *Root
	runner   Runner
	progress progress.Sink
	state    State
	accounts accounts
	open     *handles // while files are placed
	unlock   func() error
}

// Begin locks the root and undoes or finishes a transaction that was interrupted. It waits
// while another process changes the root.
func (r *Root) Begin(ctx context.Context, o Options) (*Transaction, error) {
	unlock, err := r.lock(ctx)
	if err != nil {
		return nil, err
	}
	r.disposable = o.Disposable
	t := &Transaction{root: r, runner: o.Runner, progress: o.Progress, unlock: unlock}
	if dir := r.Settings.SystemDir(); dir != "" && r.system == nil {
		t.Close()
		return nil, fact.Errorf(fact.StatusMachine, "the system that %s is based on is no longer at %s", r.Dir, dir)
	}
	if t.Recovered, err = t.recover(ctx); err == nil {
		err = t.load()
	}
	if err != nil {
		t.Close()
		return nil, err
	}
	return t, nil
}

// load reads the state of the root.
func (t *Transaction) load() (err error) {
	if t.state, err = t.root.State(); err != nil {
		return err
	}
	return t.readAccounts()
}

// State is what is installed.
func (t *Transaction) State() State { return t.state }

// Close lets others change the root.
func (t *Transaction) Close() error { return t.unlock() }

// Apply does what was planned. If it fails before all new files are in the root, nothing
// has changed; the error then says why. A *ScriptError of a script that runs afterwards
// means that everything else was done, and that Root.Pending has the script.
func (t *Transaction) Apply(ctx context.Context, p *Plan) (*Entry, error) {
	if len(p.Problems) > 0 {
		return nil, &UnfitError{p.Problems}
	}
	j, err := t.prepare(ctx, p)
	if err != nil {
		return nil, err
	}
	if err := t.root.writeJournal(prepareFile, j); err != nil {
		return nil, err
	}
	scripts := slices.Clone(p.Scripts)
	err = t.runScripts(ctx, scripts, ScriptCall.isBefore, true)
	if err == nil {
		err = t.place(ctx, p)
	}
	if err == nil {
		// From here on, the transaction is finished, whatever happens.
		err = t.root.commitJournal()
	}
	if err != nil {
		var failed *ScriptError
		if errors.As(err, &failed) {
			failed.Undone = true
		}
		// The context may be done; undoing is not to be interrupted.
		return nil, errors.Join(err, t.root.undo(j))
	}
	return t.finish(ctx, j, true)
}

// prepare makes everything that the journal refers to, but the new files themselves.
func (t *Transaction) prepare(ctx context.Context, p *Plan) (*journal, error) {
	id := make([]byte, 4)
	rand.Read(id)
	j := &journal{Format: Format, Early: p.early, Removals: p.removals}
	// A new directory is made beside its place, with everything in it, and renamed as
	// a whole.
	moved := map[string]string{}
	placed := func(real string) string {
		for dir := path.Dir(real); dir != "/"; dir = path.Dir(dir) {
			if to, ok := moved[dir]; ok {
				return to + strings.TrimPrefix(real, dir)
			}
		}
		return real
	}
	n := 0
	temp := func(real string) string {
		n++
		return path.Join(path.Dir(real), fmt.Sprintf("%s%s-%d", tempPrefix, hex.EncodeToString(id), n))
	}
	for _, i := range p.made {
		if i.temp = placed(i.real); i.temp == i.real {
			i.temp = temp(i.real)
			moved[i.real] = i.temp
			j.Made = append(j.Made, i.temp)
			j.Renames = append(j.Renames, rename{i.temp, i.real})
		}
	}
	for _, i := range p.items {
		if i.entry.Type == staging.Directory {
			if !i.write && i.old != nil && !sameFile(*i.old, i.entry) {
				uid, gid := p.accounts.numbers(i.entry.Owner, i.entry.Group)
				j.Directories = append(j.Directories, directory{i.real, i.entry.Mode, uid, gid})
			}
			continue
		}
		if i.write {
			if i.temp = placed(i.real); i.temp == i.real {
				i.temp = temp(i.real)
				j.Temps = append(j.Temps, i.temp)
				j.Renames = append(j.Renames, rename{i.temp, i.real})
			}
		}
		if i.config != nil && i.config.beside {
			beside := i.real + DefaultSuffix
			made := temp(beside) // the file is there, and so is its directory
			j.Temps = append(j.Temps, made)
			j.Renames = append(j.Renames, rename{made, beside})
			p.items = append(p.items, &item{entry: i.entry, real: beside, part: i.part, write: true, temp: made, config: &configItem{data: i.config.data}})
		}
	}
	p.accountTemps = map[string]string{}
	for _, file := range sortedKeys(p.accounts.text) {
		made := placed(file)
		if made == file {
			made = temp(file)
			j.Temps = append(j.Temps, made)
			j.Renames = append(j.Renames, rename{made, file})
		}
		p.accountTemps[file] = made
	}
	state, err := t.newState(ctx, p)
	if err != nil {
		return nil, err
	}
	if j.State, err = canonical.Marshal(state); err != nil {
		return nil, err
	}
	serial, err := t.root.lastSerial()
	if err != nil {
		return nil, err
	}
	j.Scripts = p.Scripts
	for _, c := range p.Changes {
		j.Changed = append(j.Changed, c.Name)
	}
	j.Entry = Entry{Format: Format, Serial: serial + 1, Time: time.Now().UTC().Truncate(time.Second), User: userName(), Action: p.Action, Changes: p.Changes, Config: p.Config, Accounts: p.Accounts, Packages: state.Packages}
	return j, nil
}

// newState makes the records of the packages that come in, and the state with them.
func (t *Transaction) newState(ctx context.Context, p *Plan) (State, error) {
	s := State{Format: Format, Kept: p.kept}
	changed := map[string]*part{}
	for _, one := range p.parts {
		changed[one.change.Name] = one
	}
	for _, i := range t.state.Packages {
		if changed[i.Name] == nil {
			s.Packages = append(s.Packages, i)
		}
	}
	for _, one := range p.parts {
		if one.record == nil {
			continue
		}
		for _, i := range p.items {
			if i.part != one || i.config == nil || i.config.data == nil {
				continue
			}
			sum, err := t.root.putObject(i.config.data)
			if err != nil {
				return s, err
			}
			one.change.To.Defaults = append(one.change.To.Defaults, sum)
		}
		slices.Sort(one.change.To.Defaults)
		one.change.To.Defaults = slices.Compact(one.change.To.Defaults)
		data, err := one.record.encode()
		if err != nil {
			return s, err
		}
		if one.change.To.Record, err = t.root.putObject(data); err != nil {
			return s, err
		}
		s.Packages = append(s.Packages, *one.change.To)
		if err := ctx.Err(); err != nil {
			return s, err
		}
	}
	slices.SortFunc(s.Packages, func(a, b Installed) int { return strings.Compare(a.Name, b.Name) })
	var err error
	if s.Owners, err = t.root.putObject(encodeOwners(p.owners)); err != nil {
		return s, err
	}
	return s, syncDir(t.root.state, objectsDir)
}

// userName is who changes the root, for the history.
func userName() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return fmt.Sprint(os.Getuid())
}

// place writes all new files beside where they will be.
func (t *Transaction) place(ctx context.Context, p *Plan) error {
	task := t.progress.Begin("writing files", p.Bytes, "bytes")
	defer task.End("")
	t.open = newHandles(t.root.tree)
	defer t.open.Close()
	for _, i := range p.made {
		err := t.open.in(i.temp, func(dir *os.Root, name string) error { return dir.Mkdir(name, 0o700) })
		if err != nil {
			return err
		}
	}
	byPart := map[*part][]*item{}
	for _, i := range p.items {
		if i.write && i.entry.Type != staging.Directory {
			byPart[i.part] = append(byPart[i.part], i)
		}
	}
	for _, one := range p.parts {
		if err := t.placePart(ctx, p, one, byPart[one], task); err != nil {
			return err
		}
	}
	if err := t.placeLinks(p, byPart[nil]); err != nil {
		return err
	}
	if len(p.accounts.text) > 0 {
		if err := t.placeAccounts(ctx, p); err != nil {
			return err
		}
	}
	for _, i := range slices.Backward(p.made) {
		if err := t.setDirectory(p, i); err != nil {
			return err
		}
	}
	return t.flush(ctx, p)
}

// placePart writes the files and links of one package.
func (t *Transaction) placePart(ctx context.Context, p *Plan, one *part, items []*item, task progress.Task) error {
	if len(items) == 0 {
		return ctx.Err()
	}
	when, err := time.Parse(time.DateOnly, one.record.Facts.Date)
	if err != nil {
		when = time.Unix(0, 0)
	}
	byPath := map[string]*item{}
	var read []ell.Entry
	for _, i := range items {
		uid, gid := t.numbers(p, i.entry)
		switch {
		case i.config != nil && i.config.data != nil:
			data := i.config.data
			if i.config.merged != nil {
				data = i.config.merged
			}
			if err := t.placeFile(i, strings.NewReader(string(data)), int64(len(data)), uid, gid, when); err != nil {
				return err
			}
			task.Advance(i.entry.Size)
		case i.entry.Type == staging.Symlink:
			if err := t.placeLink(i, uid, gid); err != nil {
				return err
			}
		default:
			byPath[i.entry.Path] = i
			read = append(read, i.entry)
		}
	}
	read = ell.Standalone(read)
	var own []ell.Entry
	for _, e := range read {
		if e.Same == "" && e.Copy == "" {
			own = append(own, e)
		}
	}
	err = one.in.Package.Files(ctx, own, func(e ell.Entry, r io.Reader) error {
		i := byPath[e.Path]
		uid, gid := t.numbers(p, e)
		if err := t.placeFile(i, r, e.Size, uid, gid, when); err != nil {
			return err
		}
		task.Advance(e.Size)
		return ctx.Err()
	})
	if err != nil {
		return err
	}
	for _, e := range read {
		i := byPath[e.Path]
		switch {
		case e.Same != "":
			err = t.root.tree.Link(local(byPath[e.Same].temp), local(i.temp))
		case e.Copy != "":
			err = t.placeCopy(p, i, byPath[e.Copy], when)
		}
		if err != nil {
			return err
		}
	}
	return ctx.Err()
}

// placeLink makes a symbolic link at an item's temporary name.
func (t *Transaction) placeLink(i *item, uid, gid int) error {
	return t.open.in(i.temp, func(dir *os.Root, name string) error {
		err := dir.Symlink(i.entry.Link, name)
		if err == nil && (uid >= 0 || gid >= 0) {
			err = dir.Lchown(name, uid, gid)
		}
		return err
	})
}

// placeCopy writes a file with the contents of one that was just written.
func (t *Transaction) placeCopy(p *Plan, i, of *item, when time.Time) error {
	f, err := t.root.tree.Open(local(of.temp))
	if err != nil {
		return err
	}
	defer f.Close()
	uid, gid := t.numbers(p, i.entry)
	return t.placeFile(i, f, i.entry.Size, uid, gid, when)
}

// numbers of an entry's owner and group; -1 if this user cannot give files away. A root
// of an ordinary user has the owners in its records alone.
func (t *Transaction) numbers(p *Plan, e ell.Entry) (uid, gid int) {
	if !t.ownerships() {
		return -1, -1
	}
	return p.accounts.numbers(e.Owner, e.Group)
}

// placeFile writes a new file at an item's temporary name.
func (t *Transaction) placeFile(i *item, r io.Reader, size int64, uid, gid int, when time.Time) error {
	var f *os.File
	err := t.open.in(i.temp, func(dir *os.Root, name string) (err error) {
		f, err = dir.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY|openFlags, 0o600)
		return err
	})
	if err != nil {
		return err
	}
	err = files.CopySparse(f, r, size)
	// An edited file that is merged keeps its mode and owner.
	if err == nil && i.config != nil && i.config.merged != nil && i.there != nil {
		if err = copyOwner(f, i.there); err == nil {
			err = f.Chmod(i.there.Mode())
		}
	} else if err == nil {
		err = setMeta(f, i.entry, uid, gid)
	}
	if err == nil {
		at := unix.NsecToTimeval(when.UnixNano())
		err = unix.Futimes(int(f.Fd()), []unix.Timeval{at, at})
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("%s: %w", i.real, err)
	}
	return nil
}

// setMeta sets owner, mode and attributes, in the order in which one does not undo the
// other: a new owner takes setuid and capabilities away.
func setMeta(f *os.File, e ell.Entry, uid, gid int) error {
	if uid >= 0 || gid >= 0 {
		if err := f.Chown(uid, gid); err != nil {
			return err
		}
	}
	if err := f.Chmod(fact.ParseMode(e.Mode)); err != nil {
		return err
	}
	for _, name := range sortedKeys(e.Xattrs) {
		err := unix.Fsetxattr(int(f.Fd()), name, e.Xattrs[name], 0)
		if errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOTSUP) {
			return nil // an ordinary user, or a file system without them: the record has them
		}
		if err != nil {
			return fmt.Errorf("setting %s: %w", name, err)
		}
	}
	return nil
}

// setDirectory gives a new directory its owner and mode.
func (t *Transaction) setDirectory(p *Plan, i *item) error {
	f, err := t.root.tree.Open(local(i.temp))
	if err != nil {
		return err
	}
	defer f.Close()
	uid, gid := t.numbers(p, i.entry)
	return setMeta(f, i.entry, uid, gid)
}

// placeAccounts writes the files of accounts beside the present ones.
func (t *Transaction) placeAccounts(ctx context.Context, p *Plan) error {
	unlock, err := t.lockAccounts(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	for file, data := range p.accounts.text {
		now, err := t.readAccountFile(file)
		if err != nil {
			return err
		}
		if now != nil && string(now) != string(p.accounts.base[file]) {
			return fact.Errorf(fact.StatusInput, "another program changed %s meanwhile; try again", filepath.Join(t.root.Dir, file))
		}
		temp := p.accountTemps[file]
		f, err := t.root.tree.OpenFile(local(temp), os.O_CREATE|os.O_EXCL|os.O_WRONLY|openFlags, 0o600)
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if file == shadowFile || file == gshadowFile {
			mode = 0o640
		}
		info, there, err := t.root.exists(file)
		if there && err == nil {
			mode = info.Mode().Perm()
			err = copyOwner(f, info)
		}
		if err == nil {
			_, err = f.Write(data)
		}
		if err == nil {
			err = f.Chmod(mode)
		}
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	return nil
}

// manyFiles is from when on all of a file system is flushed, instead of each file.
const manyFiles = 256

// flush waits until the new files and the directories that they are in are on disk.
func (t *Transaction) flush(ctx context.Context, p *Plan) error {
	if t.root.disposable {
		return nil
	}
	var paths []string
	dirs := map[string]bool{}
	for _, i := range p.items {
		if !i.write || i.temp == "" {
			continue
		}
		dirs[path.Dir(i.temp)] = true
		if i.entry.Type == staging.File {
			paths = append(paths, filepath.Join(t.root.Dir, i.temp))
		}
	}
	for dir := range dirs {
		paths = append(paths, filepath.Join(t.root.Dir, dir))
	}
	if len(paths) <= manyFiles {
		return files.Flush(ctx, paths...)
	}
	return t.syncFileSystems(dirs)
}

// syncFileSystems flushes each file system that a directory is on.
func (t *Transaction) syncFileSystems(dirs map[string]bool) error {
	seen := map[uint64]bool{}
	for dir := range dirs {
		f, err := t.root.tree.Open(local(dir))
		if err != nil {
			return err
		}
		var s unix.Stat_t
		if err = unix.Fstat(int(f.Fd()), &s); err == nil && !seen[s.Dev] {
			seen[s.Dev] = true
			err = unix.Syncfs(int(f.Fd()))
		}
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	return nil
}

// finish does what comes after the commit: renames, removals, the record, scripts. It can
// be interrupted at any point and called again; fresh says that it is not.
func (t *Transaction) finish(ctx context.Context, j *journal, fresh bool) (*Entry, error) {
	if err := t.root.redo(j, fresh); err != nil {
		return nil, fmt.Errorf("the transaction is not finished yet; the next change of the root finishes it: %w", err)
	}
	if err := t.load(); err != nil {
		return nil, err
	}
	scripts, err := t.root.loadScripts(scriptsFile)
	if err != nil {
		return nil, err
	}
	if scripts == nil {
		scripts = j.Scripts
	}
	failed := t.runScripts(ctx, scripts, func(c ScriptCall) bool { return !c.isBefore() }, false)
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	var script *ScriptError
	if failed != nil && !errors.As(failed, &script) {
		return nil, failed
	}
	changed := map[string]bool{}
	for _, name := range j.Changed {
		changed[name] = true
	}
	if err := t.keepPending(scripts, changed); err != nil {
		return nil, err
	}
	for i := range scripts {
		scripts[i].Text = ""
	}
	j.Entry.Scripts = scripts
	if err := t.root.writeEntry(j.Entry); err != nil {
		return nil, err
	}
	if err := t.root.clearJournal(); err != nil {
		return nil, err
	}
	if err := t.root.sweepObjects(t.state); err != nil {
		return nil, err
	}
	return &j.Entry, failed
}

// jsonLine writes a value as a line.
func jsonLine(v any) ([]byte, error) {
	data, err := json.Marshal(v)
	return append(data, '\n'), err
}

// RunPending runs the scripts again that failed in earlier transactions. It returns them,
// and a *ScriptError if one fails again.
func (t *Transaction) RunPending(ctx context.Context) ([]ScriptCall, error) {
	calls, err := t.root.Pending()
	if err != nil || len(calls) == 0 {
		return nil, err
	}
	if err := t.root.state.MkdirAll(journalDir, 0o755); err != nil {
		return nil, err
	}
	failed := t.runScripts(ctx, calls, func(ScriptCall) bool { return true }, false)
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	return calls, errors.Join(failed, t.keepPending(calls, nil), t.root.clearJournal())
}
