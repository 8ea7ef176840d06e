// Package patch applies patches in the unified diff format, as diff -u and git
// write them. A hunk that does not stand where the patch says is looked for
// nearby, and with up to two lines of context less; both are reported. One that
// does not apply is explained: how far it fits, and whether it is in already.
package patch

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bluekeyes/go-gitdiff/gitdiff"
)

// maxFuzz is how many lines of context a hunk may lack at either end.
const maxFuzz = 2

// maxStrip is how many directories in front of a name may be left out.
const maxStrip = 4

// Change is what a patch did to one file.
type Change struct {
	Path   string // in the tree; of a removed file, where it was
	Hunks  int
	Moved  int // hunks that stood on other lines than the patch says
	Fuzzed int // hunks that fitted only with less context
}

// HunkError is a hunk that does not apply.
type HunkError struct {
	Path    string
	Number  int    // of the hunk in the file's part of the patch, from 1
	Header  string // of the hunk: @@ -1,2 +1,3 @@
	Applied bool   // what it would do is done already
	// Where the most of it fits: the line, how many lines fit, and the first
	// one that does not, with what stands there.
	Line, Fits, Of int
	Want, Have     string
}

func (e *HunkError) Error() string {
	s := fmt.Sprintf("%s: hunk %d (%s) ", e.Path, e.Number, e.Header)
	if e.Applied {
		return s + "is in the source already"
	}
	s += "does not apply"
	if e.Fits > 0 {
		s += fmt.Sprintf(": %d of its %d lines fit at line %d, but not this one:\n  expected  %s\n  found     %s", e.Fits, e.Of, e.Line, e.Want, e.Have)
	} else {
		s += ": none of its lines are in the file"
	}
	return s
}

// Error lists everything about a patch that does not apply.
type Error struct {
	Problems []error
	Applied  bool // all of the patch is in the source already
}

func (e *Error) Error() string {
	lines := make([]string, len(e.Problems))
	for i, p := range e.Problems {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// result is a file as it will be.
type result struct {
	remove, write string // paths; one may be empty
	data          []byte
	mode          fs.FileMode
}

// ApplyIn applies a patch to the tree in dir, with its paths starting from the
// directory into in it; an empty one is the tree itself.
func ApplyIn(dir, into string, data []byte) ([]Change, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	if into == "" {
		return Apply(root, data)
	}
	inner, err := root.OpenRoot(into)
	if err != nil {
		return nil, err
	}
	defer inner.Close()
	return Apply(inner, data)
}

// Apply applies a patch to the tree below root: all of it or nothing. The
// error is an *Error if the patch does not fit.
func Apply(root *os.Root, data []byte) ([]Change, error) {
	files, _, err := gitdiff.Parse(bytes.NewReader(data))
	if err != nil {
		return nil, &Error{Problems: []error{fmt.Errorf("this is not a patch: %w", err)}}
	}
	if len(files) == 0 {
		return nil, &Error{Problems: []error{errors.New("it contains no change: a patch is in the unified format of diff -u or git")}}
	}
	var results []result
	var changes []Change
	var problems []error
	applied := true
	for _, f := range files {
		r, c, errs := change(root, f)
		for _, err := range errs {
			var h *HunkError
			applied = applied && errors.As(err, &h) && h.Applied
		}
		applied = applied && len(errs) > 0
		problems = append(problems, errs...)
		results, changes = append(results, r), append(changes, c)
	}
	if len(problems) > 0 {
		return nil, &Error{problems, applied}
	}
	return changes, store(root, results)
}

func store(root *os.Root, results []result) error {
	for _, r := range results {
		if r.remove != "" {
			if err := root.Remove(r.remove); err != nil {
				return err
			}
		}
		if r.write == "" {
			continue
		}
		if err := root.MkdirAll(path.Dir(r.write), 0o755); err != nil {
			return err
		}
		// A hard link's other name keeps what it had.
		if err := root.Remove(r.write); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := root.WriteFile(r.write, r.data, r.mode); err != nil {
			return err
		}
		if err := root.Chmod(r.write, r.mode); err != nil {
			return err
		}
	}
	return nil
}

// locate finds the file that a name in a patch means: the name, or the name
// without its first directories.
func locate(root *os.Root, name string) (string, bool) {
	for strip := 0; strip <= maxStrip; strip++ {
		if filepath.IsLocal(name) {
			if info, err := root.Stat(name); err == nil && info.Mode().IsRegular() {
				return name, true
			}
		}
		_, rest, ok := strings.Cut(name, "/")
		if !ok {
			break
		}
		name = rest
	}
	return "", false
}

// created is the path of a file that a patch makes: names in patches that are
// not git's have one directory too many.
func created(root *os.Root, name string) string {
	first, rest, ok := strings.Cut(name, "/")
	if ok {
		if _, err := root.Stat(first); err != nil && (first == "b" || strings.Contains(first, ".") || strings.Contains(first, "-")) {
			return rest
		}
	}
	return name
}

func change(root *os.Root, f *gitdiff.File) (result, Change, []error) {
	var r result
	name := f.OldName
	if name == "" {
		name = f.NewName
	}
	c := Change{Path: name, Hunks: len(f.TextFragments)}
	if f.IsBinary {
		return r, c, []error{fmt.Errorf("%s: a binary change cannot be applied: put the new file beside the recipe as a source", name)}
	}
	var old []byte
	mode := fs.FileMode(0o644)
	if f.IsNew {
		c.Path = created(root, f.NewName)
		if !filepath.IsLocal(c.Path) {
			return r, c, []error{fmt.Errorf("%q leads out of the tree", c.Path)}
		}
		if there, err := root.ReadFile(c.Path); err == nil {
			same := string(there) == joined(f.TextFragments)
			return r, c, []error{&HunkError{Path: c.Path, Number: 1, Header: "a new file", Applied: same, Have: "a file is there already"}}
		}
		if f.NewMode&0o111 != 0 {
			mode = 0o755
		}
	} else {
		found, ok := locate(root, name)
		if !ok {
			return r, c, []error{fmt.Errorf("%s: the source has no such file, with or without its leading directories", name)}
		}
		c.Path = found
		info, err := root.Stat(found)
		if err != nil {
			return r, c, []error{err}
		}
		if old, err = root.ReadFile(found); err != nil {
			return r, c, []error{err}
		}
		mode = info.Mode().Perm()
		if f.NewMode != 0 {
			mode = 0o644
			if f.NewMode&0o111 != 0 {
				mode = 0o755
			}
		}
	}
	text, errs := hunks(&c, splitLines(old), f.TextFragments)
	if len(errs) > 0 {
		return r, c, errs
	}
	r = result{write: c.Path, data: text, mode: mode}
	switch {
	case f.IsDelete:
		if len(text) > 0 {
			return r, c, []error{fmt.Errorf("%s: the patch removes it, and it has more in it than the patch knows", c.Path)}
		}
		r = result{remove: c.Path}
	case f.IsRename:
		r.remove = c.Path
		r.write = strings.TrimSuffix(c.Path, f.OldName) + f.NewName
		if !filepath.IsLocal(r.write) {
			return r, c, []error{fmt.Errorf("%q leads out of the tree", r.write)}
		}
	}
	return r, c, nil
}

func joined(fragments []*gitdiff.TextFragment) string {
	var b strings.Builder
	for _, f := range fragments {
		for _, l := range f.Lines {
			if l.Op != gitdiff.OpDelete {
				b.WriteString(l.Line)
			}
		}
	}
	return b.String()
}

func splitLines(data []byte) []string {
	if len(data) == 0 {
		return nil
	}
	return strings.SplitAfter(strings.TrimSuffix(string(data), "\n"), "\n")
}

// block is one side of a hunk.
type block struct{ old, new []string }

// hunks applies a file's hunks to its lines, in order.
func hunks(c *Change, lines []string, fragments []*gitdiff.TextFragment) ([]byte, []error) {
	// The last line is compared without its end: patches and editors differ
	// on it, and what the patch has there wins.
	for i := range lines {
		lines[i] = strings.TrimSuffix(lines[i], "\n")
	}
	var out []string
	var errs []error
	done, drift := 0, 0
	for i, f := range fragments {
		var b block
		lead, trail := 0, 0
		changed := false
		for _, l := range f.Lines {
			text := strings.TrimSuffix(l.Line, "\n")
			switch l.Op {
			case gitdiff.OpContext:
				b.old, b.new = append(b.old, text), append(b.new, text)
				trail++
				if !changed {
					lead++
				}
				continue
			case gitdiff.OpDelete:
				b.old = append(b.old, text)
			case gitdiff.OpAdd:
				b.new = append(b.new, text)
			}
			changed, trail = true, 0
		}
		expected := max(int(f.OldPosition)-1, 0) + drift
		if f.OldLines == 0 && f.OldPosition > 0 {
			expected++ // an insertion behind that line
		}
		at, front, back, ok := place(lines, b, expected, done, lead, trail)
		if !ok {
			errs = append(errs, explain(c.Path, i+1, f, lines, b))
			continue
		}
		if at-front != expected {
			c.Moved++
			drift += at - front - expected
		}
		if front+back > 0 {
			c.Fuzzed++
		}
		out = append(out, lines[done:at]...)
		out = append(out, b.new[front:len(b.new)-back]...)
		done = at + len(b.old) - front - back
	}
	if len(errs) > 0 {
		return nil, errs
	}
	out = append(out, lines[done:]...)
	if len(out) == 0 {
		return nil, nil
	}
	return []byte(strings.Join(out, "\n") + "\n"), nil
}

// place finds the place where a hunk fits: at the expected line or the nearest to it,
// with all of its context or as much as possible. front and back are how many
// lines of context were left out.
func place(lines []string, b block, expected, from, lead, trail int) (at, front, back int, ok bool) {
	for fuzz := 0; fuzz <= maxFuzz; fuzz++ {
		front, back = min(fuzz, lead), min(fuzz, trail)
		if fuzz > 0 && front+back == 0 || front+back >= len(b.old) && fuzz > 0 {
			break
		}
		want := b.old[front : len(b.old)-back]
		if at, ok := nearest(lines, want, expected+front, from); ok {
			return at, front, back, true
		}
	}
	return 0, 0, 0, false
}

// nearest finds the place of want in lines, from a line on, closest to
// expected.
func nearest(lines, want []string, expected, from int) (int, bool) {
	fits := func(at int) bool {
		return at >= from && at+len(want) <= len(lines) && slices.Equal(lines[at:at+len(want)], want)
	}
	for d := 0; d <= len(lines)+len(want); d++ {
		if fits(expected - d) {
			return expected - d, true
		}
		if fits(expected + d) {
			return expected + d, true
		}
	}
	return 0, false
}

// explain tells how far a hunk fits that does not apply.
func explain(name string, number int, f *gitdiff.TextFragment, lines []string, b block) *HunkError {
	e := &HunkError{Path: name, Number: number, Header: strings.TrimSpace(f.Header()), Of: len(b.old)}
	if len(b.new) > 0 {
		if _, in := nearest(lines, b.new, int(f.NewPosition)-1, 0); in {
			e.Applied = true
			return e
		}
	}
	for at := range lines {
		fits, first := 0, -1
		for i, want := range b.old {
			if at+i < len(lines) && lines[at+i] == want {
				if strings.TrimSpace(want) != "" {
					fits++
				}
			} else if first < 0 {
				first = i
			}
		}
		if fits > e.Fits && first >= 0 {
			e.Fits, e.Line, e.Want, e.Have = fits, at+1, b.old[first], "the end of the file"
			if at+first < len(lines) {
				e.Have = lines[at+first]
			}
		}
	}
	return e
}
