package root

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
)

// owned is a path and a package that it belongs to. Directories may belong to several.
type owned struct {
	path, pkg string
	dir       bool
}

// The list of owned paths has a line for each: the path, a tab, "d" for a directory
// or "-", a tab, and the name of the package. In a path, a line end is \n and a
// backslash \\. Lines are sorted by path, then by package.

var escapes = strings.NewReplacer(`\`, `\\`, "\n", `\n`)

func compareOwned(a, b owned) int {
	return cmp.Or(cmp.Compare(a.path, b.path), cmp.Compare(a.pkg, b.pkg))
}

func encodeOwners(all []owned) []byte {
	slices.SortFunc(all, compareOwned)
	var b bytes.Buffer
	for _, o := range all {
		kind := "-"
		if o.dir {
			kind = "d"
		}
		b.WriteString(escapes.Replace(o.path))
		b.WriteString("\t" + kind + "\t" + o.pkg + "\n")
	}
	return b.Bytes()
}

func decodeOwned(line string) (owned, error) {
	pkg := line[strings.LastIndexByte(line, '\t')+1:]
	rest, ok := strings.CutSuffix(line, "\t"+pkg)
	if !ok || len(rest) < 3 {
		return owned{}, fmt.Errorf("%q names no package", line)
	}
	text, kind := rest[:len(rest)-2], rest[len(rest)-2:]
	if kind != "\td" && kind != "\t-" {
		return owned{}, fmt.Errorf("%q is neither a directory nor a file", line)
	}
	if !strings.Contains(text, `\`) {
		return owned{text, pkg, kind == "\td"}, nil
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c == '\\' {
			if i++; i == len(text) {
				return owned{}, fmt.Errorf("%q ends in a backslash", line)
			}
			if c = text[i]; c == 'n' {
				c = '\n'
			}
		}
		b.WriteByte(c)
	}
	return owned{b.String(), pkg, kind == "\td"}, nil
}

func decodeOwners(data []byte) ([]owned, error) {
	out := make([]owned, 0, bytes.Count(data, []byte("\n")))
	for line := range strings.Lines(string(data)) {
		text, ok := strings.CutSuffix(line, "\n")
		if !ok {
			return nil, errors.New("its last line has no end")
		}
		o, err := decodeOwned(text)
		if err != nil {
			return nil, err
		}
		if n := len(out); n > 0 && compareOwned(out[n-1], o) >= 0 {
			return nil, fmt.Errorf("%q is not in its order", text)
		}
		out = append(out, o)
	}
	return out, nil
}

// owners reads all owned paths.
func (r *Root) owners(s State) ([]owned, error) {
	if s.Owners == "" {
		return nil, nil
	}
	data, err := r.object(s.Owners)
	if err != nil {
		return nil, err
	}
	all, err := decodeOwners(data)
	if err != nil {
		return nil, &DamagedError{r.where(objectsDir + "/" + s.Owners), err}
	}
	return all, nil
}

// Owner lists the packages that a path belongs to; several for a directory. It reads
// little of the list, whatever its size. A path through a symbolic link of the root is
// found where the link leads. The link of a choice belongs to the package that is chosen.
func (r *Root) Owner(p string) ([]string, error) {
	s, err := r.State()
	if err != nil || s.Owners == "" {
		return nil, err
	}
	real, err := r.newView().real(p)
	if err != nil {
		return nil, err
	}
	f, err := r.state.Open(objectsDir + "/" + s.Owners)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	var packages []string
	err = eachOwner(f, info.Size(), real, func(o owned) { packages = append(packages, o.pkg) })
	if err != nil {
		return nil, &DamagedError{r.where(objectsDir + "/" + s.Owners), err}
	}
	if len(packages) > 0 {
		return packages, nil
	}
	for _, c := range choices(s.Packages, r.Settings.Chosen) {
		if c.Link == p || c.Link == real {
			return []string{c.Package}, nil
		}
	}
	return nil, nil
}

// block is how many bytes of the list are read at once: more than a line may have.
const block = 16 << 10

// eachOwner finds the lines of a path by bisection.
func eachOwner(list io.ReaderAt, size int64, p string, found func(owned)) error {
	low, high := int64(0), size // the first line of the path begins in [low, high]
	for high-low > block {
		middle := low + (high-low)/2
		start, o, err := lineFrom(list, middle, size)
		if err != nil {
			return err
		}
		if start < 0 || start >= high || o.path >= p {
			high = middle
		} else {
			low = start
		}
	}
	// Low begins a line, and the path's first line begins before high, or is the
	// next one after it.
	for at := low; at < size; {
		start, o, next, err := lineAt(list, at, size)
		if err != nil {
			return err
		}
		if o.path > p {
			break
		}
		if o.path == p {
			found(o)
		}
		at = max(next, start+1)
	}
	return nil
}

// lineFrom reads the first line that begins after an offset; start is -1 if there is
// none.
func lineFrom(list io.ReaderAt, at, size int64) (start int64, o owned, err error) {
	head := make([]byte, min(block, size-at))
	if _, err := list.ReadAt(head, at); err != nil && !errors.Is(err, io.EOF) {
		return 0, o, err
	}
	i := bytes.IndexByte(head, '\n')
	if i < 0 {
		return 0, o, errors.New("it has a line without an end")
	}
	if at += int64(i) + 1; at >= size {
		return -1, o, nil
	}
	start, o, _, err = lineAt(list, at, size)
	return start, o, err
}

// lineAt reads the line that begins at an offset.
func lineAt(list io.ReaderAt, at, size int64) (start int64, o owned, next int64, err error) {
	data := make([]byte, min(block, size-at))
	if _, err := list.ReadAt(data, at); err != nil && !errors.Is(err, io.EOF) {
		return 0, o, 0, err
	}
	line, _, ok := bytes.Cut(data, []byte("\n"))
	if !ok {
		return 0, o, 0, errors.New("it has a line without an end")
	}
	o, err = decodeOwned(string(line))
	return at, o, at + int64(len(line)) + 1, err
}

// ownersOf finds who has a path among sorted owned paths.
func ownersOf(all []owned, p string) []owned {
	i, _ := slices.BinarySearchFunc(all, p, func(o owned, p string) int { return cmp.Compare(o.path, p) })
	end := i
	for end < len(all) && all[end].path == p {
		end++
	}
	return all[i:end]
}

// Exists reports whether a path is in the root, without following a link there.
func (r *Root) exists(p string) (fs.FileInfo, bool, error) {
	info, err := r.tree.Lstat(local(p))
	if errors.Is(err, fs.ErrNotExist) || isNotDir(err) {
		return nil, false, nil
	}
	return info, err == nil, err
}
