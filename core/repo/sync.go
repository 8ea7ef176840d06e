package repo

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync/atomic"
	"time"

	"github.com/google/renameio/v2"
	"golang.org/x/sync/errgroup"

	"ellwand.example/core/cancel"
	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

// What a reader keeps of a repository on a server, below Cache:
//
//	copy/newest.json      the newest repository.json that was ever seen
//	copy/repository.json  the one that all of the following belongs to
//	copy/snapshots/… listings/… files/…
const copyDir = "copy"

// BackError is a repository that is older than it was: an outdated mirror, or
// somebody who hides what is new.
type BackError struct {
	Where       string
	Found, Seen int64 // serials
}

func (e *BackError) Error() string {
	if e.Found == e.Seen {
		return fmt.Sprintf("%s has another state of serial %d than the one seen before: it was created again, or two publishers work independently", e.Where, e.Found)
	}
	return fmt.Sprintf("%s is at serial %d, and was at %d when it was last read: an outdated mirror, or an older copy put back", e.Where, e.Found, e.Seen)
}

// Action forgets what was seen of the repository: it may have been started again
// on purpose.
func (e *BackError) Action() fact.Action { return fact.Action{Verb: fact.ForgetSeen, Subject: e.Where} }

// JumpError is a repository whose serial is further ahead than any change
// explains. Were it believed, what comes after it would be taken for old.
type JumpError struct {
	Where       string
	Found, Seen int64 // serials
}

func (e *JumpError) Error() string {
	return fmt.Sprintf("%s is at serial %d, and was at %d when it was last read: no repository changes that often, so it is not believed", e.Where, e.Found, e.Seen)
}

// Action forgets what was seen of the repository: it may have been started again
// on purpose.
func (e *JumpError) Action() fact.Action { return fact.Action{Verb: fact.ForgetSeen, Subject: e.Where} }

// HalfCopiedError is a mirror that names files which are not there.
type HalfCopiedError struct{ Where, Name string }

func (e *HalfCopiedError) Error() string {
	return fmt.Sprintf("%s is copied in part: %s names %s, which is not there. When a repository is copied, %s has to be copied last; try again once the copy is complete",
		e.Where, storage.PointerFile, e.Name, storage.PointerFile)
}

// copied reports whether what is read is kept.
func (r *Repository) copied() bool {
	_, local := r.Storage.LocalPath()
	return !local && r.Cache != ""
}

func (r *Repository) copyFile(name string) string {
	return filepath.Join(r.Cache, copyDir, filepath.FromSlash(name))
}

func (r *Repository) keepCopy(name string, data []byte) error {
	file := r.copyFile(name)
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return files.Write(file, data)
}

// newer checks a server's pointer against what was seen before.
func (r *Repository) newer(p index.Pointer, data []byte) error {
	old, err := os.ReadFile(r.copyFile("newest.json"))
	if err == nil {
		seen, err := index.ParsePointer(old)
		if err == nil && p.Serial-seen.Serial > index.MaxJump {
			return &JumpError{r.Storage.Where(), p.Serial, seen.Serial}
		}
		if err == nil && (p.Serial < seen.Serial || p.Serial == seen.Serial && string(old) != string(data)) {
			return &BackError{r.Storage.Where(), p.Serial, seen.Serial}
		}
	}
	if string(old) == string(data) {
		return nil
	}
	return r.keepCopy("newest.json", data)
}

// offline returns the pointer of the last sync.
func (r *Repository) offline() (index.Pointer, error) {
	data, err := os.ReadFile(r.copyFile(storage.PointerFile))
	if err != nil {
		return index.Pointer{}, err
	}
	return index.ParsePointer(data)
}

// Forget removes all that is kept of the repository.
func (r *Repository) Forget() error {
	if r.Cache == "" {
		return nil
	}
	return os.RemoveAll(r.Cache)
}

// Synced is the result of a sync.
type Synced struct {
	Serial  int64     `json:"serial"`
	Time    time.Time `json:"time"`    // of the repository's last change
	Fetched int       `json:"fetched"` // listings
	Kept    int       `json:"kept"`    // listings that were there already
	Bytes   int64     `json:"bytes"`   // fetched
	Dropped int       `json:"dropped"` // files that nothing needs any more
	Offline bool      `json:"offline"` // the server does not answer; all is as it was
	Local   bool      `json:"local"`   // it is in a directory, and read from there
}

// Sync brings a channel's packages here: only the listings that changed are
// fetched, and with paths those of paths too. Afterwards the channel can be
// read without the server.
func (r *Repository) Sync(ctx context.Context, channel string, paths bool, sink progress.Sink) (out Synced, err error) {
	err = r.retryIfPruned(ctx, func() error {
		out, err = r.sync(ctx, channel, paths, sink)
		return err
	})
	return out, err
}

func (r *Repository) sync(ctx context.Context, channel string, paths bool, sink progress.Sink) (Synced, error) {
	p, targets, err := r.targets(ctx, channel)
	out := Synced{Serial: p.Serial, Time: p.Time, Offline: r.Offline, Local: !r.copied()}
	if err != nil || out.Local || out.Offline {
		return out, err
	}
	refs := map[string]string{} // file → digest
	for _, target := range slices.Sorted(maps.Keys(targets)) {
		s, err := r.Snapshot(ctx, targets[target])
		if err != nil {
			return out, err
		}
		for _, ref := range s.Listings {
			refs["listings/"+ref.SHA256+".jsonl.zst"] = ref.SHA256
		}
		if paths {
			for _, ref := range s.Files {
				refs["files/"+ref.SHA256+".jsonl.zst"] = ref.SHA256
			}
		}
	}
	t := sink.Begin("sync "+channel, int64(len(refs)), "listings")
	var bytes, fetched, left atomic.Int64
	left.Store(index.MaxSync)
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(2 * max(4, runtime.GOMAXPROCS(0))) // most of the time is waiting
	for _, name := range slices.Sorted(maps.Keys(refs)) {
		g.Go(func() error {
			defer t.Advance(1)
			n, err := r.fetch(gctx, name, refs[name], &left)
			if n > 0 {
				fetched.Add(1)
				bytes.Add(n)
			}
			return err
		})
	}
	err = g.Wait()
	t.End("done")
	if err != nil {
		return out, err
	}
	out.Fetched, out.Bytes = int(fetched.Load()), bytes.Load()
	out.Kept = len(refs) - out.Fetched
	data, err := json.Marshal(p)
	if err != nil {
		return out, err
	}
	if err := r.keepCopy(storage.PointerFile, data); err != nil {
		return out, err
	}
	out.Dropped, err = r.drop(ctx, p)
	return out, err
}

// fetch brings an immutable file here, without holding it in memory, and
// returns how many bytes that were; 0 where it was here already. Left is how
// much may still be fetched.
func (r *Repository) fetch(ctx context.Context, name, want string, left *atomic.Int64) (int64, error) {
	if f, err := os.Open(r.copyFile(name)); err == nil {
		h := sha256.New()
		_, err := io.Copy(h, cancel.Reader(ctx, f))
		f.Close()
		if ctx.Err() != nil {
			return 0, err
		}
		if err == nil && hex.EncodeToString(h.Sum(nil)) == want {
			return 0, nil
		}
	}
	in, err := r.Storage.Open(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, r.missing(name)
	}
	if err != nil {
		return 0, err
	}
	defer in.Close()
	file := r.copyFile(name)
	if err := files.MkdirAll(filepath.Dir(file)); err != nil {
		return 0, err
	}
	out, err := os.CreateTemp(filepath.Dir(file), ".new-")
	if err != nil {
		return 0, err
	}
	defer os.Remove(out.Name()) // fails after the rename, as it should
	defer out.Close()
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(out, h), cancel.Reader(ctx, io.LimitReader(in, index.MaxStored+1)))
	switch {
	case err != nil:
		return n, err
	case n > index.MaxStored:
		return n, &index.DamagedError{Name: name, Err: fmt.Errorf("it is larger than %d bytes", int64(index.MaxStored))}
	case left.Add(-n) < 0:
		return n, &index.DamagedError{Name: name, Err: fmt.Errorf("the index is larger than %d bytes", int64(index.MaxSync))}
	}
	if found := hex.EncodeToString(h.Sum(nil)); found != want {
		return n, &index.DamagedError{Name: name, Err: fmt.Errorf("its SHA-256 is %s", found)}
	}
	if err := errors.Join(out.Chmod(files.Mode(filepath.Dir(file))), out.Close()); err != nil {
		return n, err
	}
	return n, os.Rename(out.Name(), file)
}

// drop removes copies that no channel's snapshot names.
func (r *Repository) drop(ctx context.Context, p index.Pointer) (int, error) {
	named := map[string]bool{}
	for _, digest := range p.Heads() {
		name := "snapshots/" + digest + ".json"
		if _, err := os.Stat(r.copyFile(name)); err != nil {
			continue // of a channel that is not read here
		}
		named[name] = true
		s, err := r.Snapshot(ctx, digest)
		if err != nil {
			return 0, err
		}
		for _, ref := range s.Listings {
			named["listings/"+ref.SHA256+".jsonl.zst"] = true
		}
		for _, ref := range s.Files {
			named["files/"+ref.SHA256+".jsonl.zst"] = true
		}
	}
	n := 0
	here := storage.NewDirectory(filepath.Join(r.Cache, copyDir))
	for _, dir := range immutable[:3] {
		err := here.List(ctx, dir, func(s storage.Stored) error {
			if named[s.Name] {
				return nil
			}
			n++
			return here.Remove(ctx, s.Name)
		})
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// retryIfPruned runs a function that reads a state, and runs it again if what it
// reads was pruned in the meantime: the state that it began with is gone then.
func (r *Repository) retryIfPruned(ctx context.Context, read func() error) error {
	for try := 1; ; try++ {
		err := read()
		before := r.serial.Load()
		var damaged *index.DamagedError
		var half *HalfCopiedError
		if err == nil || try == storage.Tries || !errors.As(err, &damaged) && !errors.As(err, &half) {
			return err
		}
		if now, _, err2 := r.current(ctx); err2 != nil || now.Serial == before {
			return err
		}
	}
}

// Copy copies a package file into a directory, where it appears whole or not at
// all, and only if it is the one that the index names.
func (r *Repository) Copy(ctx context.Context, rec index.Record, dir string) (file string, err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	file = filepath.Join(dir, filepath.Base(rec.File))
	if r.assemble(ctx, rec, dir, file) {
		return file, nil
	}
	in, err := r.Storage.Open(ctx, rec.File)
	if errors.Is(err, fs.ErrNotExist) {
		return "", r.missing(rec.File)
	}
	if err != nil {
		return "", err
	}
	defer in.Close()
	out, err := renameio.NewPendingFile(file, renameio.WithStaticPermissions(0o644))
	if err != nil {
		return "", err
	}
	defer out.Cleanup()
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(out, h), cancel.Reader(ctx, io.LimitReader(in, rec.Bytes+1)))
	if err != nil {
		return "", err
	}
	if n != rec.Bytes {
		return "", &index.DamagedError{Name: rec.File, Err: fmt.Errorf("it does not have the %d bytes that the index says", rec.Bytes)}
	}
	if found := hex.EncodeToString(h.Sum(nil)); found != rec.SHA256 {
		return "", &index.DamagedError{Name: rec.File, Err: fmt.Errorf("its SHA-256 is %s, and the index says %s", found, rec.SHA256)}
	}
	return file, out.CloseAtomicallyReplace()
}

// maxEarlier is how many earlier versions of a package are looked into for
// frames that need not be downloaded.
const maxEarlier = 3

// assemble makes the copy of a package from an earlier version that was copied
// into the same directory, and from what of it has to be downloaded: often little.
// It reports whether that worked; if it did not, for whatever reason, the whole is
// to be copied.
func (r *Repository) assemble(ctx context.Context, rec index.Record, dir, file string) bool {
	url := r.Storage.Address(rec.File)
	if _, local := r.Storage.LocalPath(); local || url == "" || rec.Bytes < worthAssembling {
		return false
	}
	var earlier []*ell.Package
	for _, name := range ell.Newest(dir, rec.Name, maxEarlier) {
		if p, err := ell.Open(name); err == nil {
			defer p.Close()
			earlier = append(earlier, p)
		}
	}
	if len(earlier) == 0 {
		return false
	}
	p, err := ell.OpenParts(ctx, url, rec.Bytes, storage.Authorize)
	if err != nil {
		return false
	}
	defer p.Close()
	out, err := renameio.NewPendingFile(file, renameio.WithStaticPermissions(0o644))
	if err != nil {
		return false
	}
	defer out.Cleanup()
	h := sha256.New()
	if _, err := p.Assemble(ctx, io.MultiWriter(out, h), earlier); err != nil {
		return false
	}
	return hex.EncodeToString(h.Sum(nil)) == rec.SHA256 && out.CloseAtomicallyReplace() == nil
}

// worthAssembling is from how many bytes on a package is worth the requests that
// save a part of its download.
const worthAssembling = 1 << 20

// IsCopy reports whether a file is the one that the index names: by its size
// and its digest.
func IsCopy(ctx context.Context, rec index.Record, file string) (bool, error) {
	f, err := os.Open(file)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || info.Size() != rec.Bytes {
		return false, err
	}
	h := sha256.New()
	if _, err := io.Copy(h, cancel.Reader(ctx, f)); err != nil {
		return false, err
	}
	return hex.EncodeToString(h.Sum(nil)) == rec.SHA256, nil
}

// Package opens a package of the repository, once it is certain that it is the
// one that the index names: the file itself where the repository is a
// directory, and else a copy in dir, which is made where it is not there yet.
func (r *Repository) Package(ctx context.Context, rec index.Record, dir string) (*ell.Package, error) {
	file := filepath.Join(dir, filepath.Base(rec.File))
	if _, local := r.Storage.LocalPath(); local {
		file = r.Storage.Address(rec.File)
		if same, err := IsCopy(ctx, rec, file); err != nil {
			return nil, err
		} else if !same {
			return nil, &index.DamagedError{Name: rec.File, Err: errors.New("it is missing, or not the one that the index names")}
		}
	} else if same, err := IsCopy(ctx, rec, file); err != nil {
		return nil, err
	} else if !same {
		if file, err = r.Copy(ctx, rec, dir); err != nil {
			return nil, err
		}
		// Older ones serve for downloading the next, but not all of them.
		for i, old := range ell.Newest(dir, rec.Name, math.MaxInt) {
			if i >= maxEarlier && old != file {
				os.Remove(old)
			}
		}
	}
	p, err := ell.Open(file)
	if err != nil {
		return nil, err
	}
	if found := p.Facts.Identity(); found != rec.Identity() {
		p.Close()
		return nil, &index.DamagedError{Name: rec.File, Err: fmt.Errorf("it is %s, and the index says %s", found, rec.Identity())}
	}
	return p, nil
}

// missing is the error for a file that is named and not there.
func (r *Repository) missing(name string) error {
	if _, local := r.Storage.LocalPath(); local {
		return &index.DamagedError{Name: name, Err: errors.New("it is missing: was the repository copied in part?")}
	}
	return &HalfCopiedError{r.Storage.Where(), name}
}
