package pack

import (
	"archive/tar"
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/renameio/v2"

	"ellwand.example/core/canonical"
	"ellwand.example/core/layout"
	"ellwand.example/core/progress"
)

// Spec is everything that goes into a package.
type Spec struct {
	Facts   Facts // Format, Paths, Size and Meta are filled in
	Claims  []layout.Claim
	Scripts map[string]string
	Recipe  []byte
	Build   BuildRecord
	Time    time.Time // of every entry
}

// Written is a package that was written.
type Written struct {
	Path   string `json:"path"`
	Facts  Facts  `json:"facts"`
	SHA256 string `json:"sha256"` // of the file
	Size   int64  `json:"bytes"`  // of the file
}

// Write makes a package in dir, under its own name. The file appears whole, by
// rename; one of that name is replaced. Only one process at a time may write a
// package of one identity. Memory does not grow with the payload:
// it is compressed into a temporary file first, since the metadata that
// precedes it holds its digests.
func Write(ctx context.Context, dir string, spec Spec, sink progress.Sink) (Written, error) {
	var out Written
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return out, err
	}
	spec.Facts.Format = Format
	out.Path = filepath.Join(dir, spec.Facts.FileName())
	// One name for each package: what a killed process left is cleared away by
	// the next one that writes it.
	temp := filepath.Join(dir, ".writing-"+spec.Facts.Identity())
	if err := os.RemoveAll(temp); err != nil {
		return out, err
	}
	if err := os.Mkdir(temp, 0o755); err != nil {
		return out, err
	}
	defer os.RemoveAll(temp)
	payload, err := os.Create(filepath.Join(temp, "payload"))
	if err != nil {
		return out, err
	}
	defer payload.Close()
	t := sink.Begin("pack "+spec.Facts.Identity(), total(spec.Claims), "bytes")
	entries, frames, err := writePayload(ctx, payload, spec, t)
	if err != nil {
		t.End("failed")
		return out, err
	}
	t.End("done")
	head, err := metaFrame(&spec, entries)
	if err != nil {
		return out, err
	}
	enc, err := newEncoder()
	if err != nil {
		return out, err
	}
	first := enc.EncodeAll(head, nil)
	frames = append([]frame{{uint32(len(first)), uint32(len(head))}}, frames...)

	file, err := renameio.NewPendingFile(out.Path, renameio.WithTempDir(temp), renameio.WithStaticPermissions(0o644))
	if err != nil {
		return out, err
	}
	defer file.Cleanup()
	if _, err := payload.Seek(0, io.SeekStart); err != nil {
		return out, err
	}
	digest := sha256.New()
	whole := io.MultiReader(bytes.NewReader(first), payload, bytes.NewReader(seekTable(frames)))
	if out.Size, err = io.Copy(io.MultiWriter(file, digest), whole); err != nil {
		return out, err
	}
	out.Facts, out.SHA256 = spec.Facts, hex.EncodeToString(digest.Sum(nil))
	return out, file.CloseAtomicallyReplace()
}

func total(claims []layout.Claim) int64 {
	var n int64
	for _, c := range claims {
		n += max(c.Size, 0)
	}
	return n
}

// writePayload writes the entries of tree/ and returns their layout lines.
func writePayload(ctx context.Context, w io.Writer, spec Spec, t progress.Task) ([]Entry, []frame, error) {
	f, err := newFramer(ctx, w)
	if err != nil {
		return nil, nil, err
	}
	p := &payloadWriter{framer: f, tar: tar.NewWriter(f), spec: spec, links: map[layout.Inode]string{}, task: t, sum: sha256.New(), files: map[string]Entry{}}
	entries := make([]Entry, 0, len(spec.Claims))
	for _, c := range spec.Claims {
		if err := ctx.Err(); err != nil {
			f.close()
			return nil, nil, err
		}
		e, err := p.entry(c)
		if err != nil {
			f.close()
			return nil, nil, err
		}
		entries = append(entries, e)
	}
	if err := p.tar.Close(); err != nil {
		f.close()
		return nil, nil, err
	}
	frames, err := f.close()
	return entries, frames, err
}

type payloadWriter struct {
	framer *framer
	tar    *tar.Writer
	spec   Spec
	links  map[layout.Inode]string
	files  map[string]Entry // those with more than one name
	task   progress.Task
	sum    hash.Hash
}

func header(e Entry, mode fs.FileMode, when time.Time) *tar.Header {
	h := &tar.Header{
		Format: tar.FormatPAX, Name: treeDir + e.Path, Mode: layout.Bits(mode), Uname: e.Owner, Gname: e.Group, ModTime: when,
		Typeflag: tar.TypeReg, Size: e.Size,
	}
	switch {
	case e.Type == layout.Directory:
		h.Typeflag, h.Name = tar.TypeDir, h.Name+"/"
	case e.Type == layout.Symlink:
		h.Typeflag, h.Linkname = tar.TypeSymlink, e.Link
	case e.Same != "":
		h.Typeflag, h.Linkname, h.Size = tar.TypeLink, treeDir+e.Same, 0
	}
	return h
}

func (p *payloadWriter) entry(c layout.Claim) (Entry, error) {
	e := Entry{Path: c.Path.Path, Type: c.Type, Kind: c.Kind, Mode: layout.Octal(c.Mode), Owner: c.Owner, Group: c.Group, Link: c.Link}
	if c.Type != layout.File {
		return e, p.tar.WriteHeader(header(e, c.Mode, p.spec.Time))
	}
	if first, ok := p.links[c.Inode]; ok && c.Inode != (layout.Inode{}) {
		of := p.files[first]
		if of.Mode == e.Mode && of.Owner == e.Owner && of.Group == e.Group {
			e.Same, e.Size, e.SHA256, e.At = first, of.Size, of.SHA256, of.At
			return e, p.tar.WriteHeader(header(e, c.Mode, p.spec.Time))
		}
	}
	f, err := os.Open(c.Disk)
	if err != nil {
		return e, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return e, err
	}
	e.Size = info.Size()
	if err := p.tar.WriteHeader(header(e, c.Mode, p.spec.Time)); err != nil {
		return e, err
	}
	e.At = p.framer.total
	p.sum.Reset()
	n, err := io.Copy(io.MultiWriter(p.tar, p.sum), io.LimitReader(f, e.Size+1))
	if err != nil || n != e.Size {
		return e, fmt.Errorf("%s changed while it was packed: %w", c.Disk, cmp.Or(err, io.ErrUnexpectedEOF))
	}
	p.task.Advance(n)
	e.SHA256 = hex.EncodeToString(p.sum.Sum(nil))
	if c.Inode != (layout.Inode{}) {
		p.links[c.Inode], p.files[e.Path] = e.Path, e
	}
	return e, nil
}

// metaFrame completes the facts and returns the tar entries of the first
// frame.
func metaFrame(spec *Spec, entries []Entry) ([]byte, error) {
	facts := &spec.Facts
	metas := map[string][]byte{RecipeFile: spec.Recipe}
	for name, text := range spec.Scripts {
		metas[ScriptsDir+name] = []byte(text)
	}
	var lines bytes.Buffer
	w := bufio.NewWriter(&lines)
	facts.Paths, facts.Size = len(entries), 0
	for _, e := range entries {
		line, err := canonical.Marshal(e)
		if err != nil {
			return nil, err
		}
		w.Write(line)
		w.WriteByte('\n')
		if e.Same == "" {
			facts.Size += e.Size
		}
	}
	w.Flush()
	metas[LayoutFile] = lines.Bytes()
	build, err := canonical.Marshal(spec.Build)
	if err != nil {
		return nil, err
	}
	metas[BuildFile] = build
	facts.Meta = map[string]string{}
	for name, data := range metas {
		sum := sha256.Sum256(data)
		facts.Meta[strings.TrimPrefix(name, "meta/")] = hex.EncodeToString(sum[:])
	}
	if facts.Needs == nil {
		facts.Needs = []Need{}
	}
	if facts.Provides == nil {
		facts.Provides = []Provide{}
	}
	if err := facts.check(); err != nil {
		return nil, err
	}
	if err := checkLayout(entries); err != nil {
		return nil, err
	}
	own, err := canonical.Marshal(facts)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	tw := tar.NewWriter(&b)
	write := func(name string, data []byte) error {
		mode := int64(0o644)
		if strings.HasPrefix(name, ScriptsDir) {
			mode = 0o755
		}
		h := &tar.Header{Format: tar.FormatPAX, Typeflag: tar.TypeReg, Name: name, Mode: mode, Uname: layout.Root, Gname: layout.Root, Size: int64(len(data)), ModTime: spec.Time}
		if err := tw.WriteHeader(h); err != nil {
			return err
		}
		_, err := tw.Write(data)
		return err
	}
	if err := write(PackageFile, own); err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(metas)) {
		if err := write(name, metas[name]); err != nil {
			return nil, err
		}
	}
	// The archive goes on in the next frame: padding, but no end mark.
	if err := tw.Flush(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
