// Package rewrite replaces text in files, and never silently does nothing: a
// rewrite that finds its text another number of times than it should is an
// error that shows the lines nearest to it.
package rewrite

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/bmatcuk/doublestar/v4"
)

// Rule is what to replace.
type Rule struct {
	Path    string // a path or pattern below the root, slash-separated
	Find    string // literal text
	Regexp  string // or a regular expression in the syntax of RE2
	Replace string // with $1 and so on, for a regular expression
	Times   int    // how often it must be found, in all files; 0 for at least once
}

// Line is a line that is near to what was looked for.
type Line struct {
	Path   string
	Number int
	Text   string
}

// CountError is a rewrite that found its text another number of times.
type CountError struct {
	Rule  Rule
	Files int // that the path matches
	Found int
	Near  []Line
}

func (e *CountError) Error() string {
	what := fmt.Sprintf("%q", e.Rule.Find)
	if e.Rule.Regexp != "" {
		what = "/" + e.Rule.Regexp + "/"
	}
	if e.Files == 0 {
		return fmt.Sprintf("no file matches %s", e.Rule.Path)
	}
	want := "at least once"
	if e.Rule.Times > 0 {
		want = times(e.Rule.Times)
	}
	s := fmt.Sprintf("%s is in %s %s, and should be there %s", what, e.Rule.Path, times(e.Found), want)
	for _, l := range e.Near {
		s += fmt.Sprintf("\n  %s:%d: %s", l.Path, l.Number, l.Text)
	}
	return s
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// maxNear is how many near lines an error shows.
const maxNear = 3

// maxFile bounds the files that are rewritten, in bytes.
const maxFile = 256 << 20

// Apply rewrites the files below root and returns how often the text was
// found. Nothing is written if the count is wrong; the error is then a
// *CountError.
func Apply(root *os.Root, r Rule) (int, error) {
	paths, err := doublestar.Glob(root.FS(), strings.TrimPrefix(r.Path, "/"), doublestar.WithFilesOnly(), doublestar.WithNoFollow())
	if err != nil {
		return 0, err
	}
	slices.Sort(paths)
	find := regexp.MustCompile(regexp.QuoteMeta(r.Find))
	with := strings.ReplaceAll(r.Replace, "$", "$$")
	if r.Regexp != "" {
		if find, err = regexp.Compile(r.Regexp); err != nil {
			return 0, err
		}
		with = r.Replace
	}
	found := 0
	results := map[string][]byte{}
	contents := map[string][]byte{}
	for _, p := range paths {
		info, err := root.Lstat(p)
		if err != nil {
			return 0, err
		}
		if !info.Mode().IsRegular() {
			continue
		}
		if info.Size() > maxFile {
			return 0, fmt.Errorf("%s has %d bytes, and %d is the most that is rewritten", p, info.Size(), maxFile)
		}
		data, err := root.ReadFile(p)
		if err != nil {
			return 0, err
		}
		contents[p] = data
		if n := len(find.FindAllIndex(data, -1)); n > 0 {
			found += n
			results[p] = find.ReplaceAll(data, []byte(with))
		}
	}
	if found == 0 || r.Times > 0 && found != r.Times {
		return found, &CountError{r, len(contents), found, near(r, find, contents)}
	}
	for p, data := range results {
		if err := replace(root, p, data); err != nil {
			return found, err
		}
	}
	return found, nil
}

// replace writes a file again under its mode; a hard link's other name keeps
// what it had.
func replace(root *os.Root, p string, data []byte) error {
	info, err := root.Stat(p)
	if err != nil {
		return err
	}
	if err := root.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := root.WriteFile(p, data, 0o600); err != nil {
		return err
	}
	return root.Chmod(p, info.Mode())
}

// near finds the lines that were perhaps meant: those that match where there
// are too many, and the likest ones where there are none.
func near(r Rule, find *regexp.Regexp, contents map[string][]byte) []Line {
	want := strings.TrimSpace(r.Find)
	if r.Regexp != "" {
		want = strings.Trim(r.Regexp, "^$")
	}
	want, _, _ = strings.Cut(want, "\n")
	type scored struct {
		Line
		distance int
	}
	var all []scored
	for p, data := range contents {
		for i, line := range bytes.Split(data, []byte("\n")) {
			text := strings.TrimSpace(string(line))
			if text == "" || len(text) > 500 {
				continue
			}
			d := 0
			if !find.Match(line) {
				d = levenshtein.ComputeDistance(text, want)
				if d > max(len(text), len(want))*2/3 {
					continue
				}
			}
			all = append(all, scored{Line{p, i + 1, text}, d})
		}
	}
	slices.SortFunc(all, func(a, b scored) int {
		return cmp.Or(cmp.Compare(a.distance, b.distance), cmp.Compare(a.Path, b.Path), cmp.Compare(a.Number, b.Number))
	})
	var lines []Line
	for _, s := range all[:min(len(all), maxNear)] {
		lines = append(lines, s.Line)
	}
	return lines
}
