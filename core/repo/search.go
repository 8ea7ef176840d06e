package repo

import (
	"bytes"
	"cmp"
	"context"
	"slices"
	"strings"
	"unicode/utf8"

	"ellwand.example/core/repo/index"
)

// Hit is a package that a search found, and why.
type Hit struct {
	Target string       `json:"target"`
	Record index.Record `json:"package"`
	In     string       `json:"in"`   // "name", "summary", "provide" or "path"
	Text   []string     `json:"text"` // what matched: provides or paths
}

// Ranks of hits: the more telling the place, the earlier.
var ranks = map[string]int{"name": 0, "provide": 1, "summary": 2, "path": 3}

// Search finds packages by a word in their names, summaries and provides, and
// in their paths where the word has a slash in it. Case does not matter.
func (r *Repository) Search(ctx context.Context, channel, word string) (hits []Hit, err error) {
	err = r.retryIfPruned(ctx, func() error {
		hits, err = r.search(ctx, channel, word)
		return err
	})
	return hits, err
}

func (r *Repository) search(ctx context.Context, channel, word string) ([]Hit, error) {
	word = strings.ToLower(word)
	has := func(s string) bool { return strings.Contains(strings.ToLower(s), word) }
	// A line of JSON has what is in it letter by letter, but for what it has to
	// escape: most lines need not be decoded to see that the word is not there.
	inLine := func(line []byte) bool { return bytes.Contains(bytes.ToLower(line), []byte(word)) }
	pick := index.Where(inLine)
	switch {
	case strings.ContainsFunc(word, func(c rune) bool { return c < ' ' || c == '"' || c == '\\' || c == utf8.RuneError }) || word == "":
		inLine, pick = func([]byte) bool { return true }, nil
	case !strings.ContainsFunc(word, func(c rune) bool { return c >= utf8.RuneSelf }):
		s := index.NewFinder(word)
		inLine, pick = func(line []byte) bool { return s.Index(line) >= 0 }, s.Pick
	}
	paths := map[string]map[string][]string{} // target → package → paths with the word
	if strings.Contains(word, "/") {
		_, targets, err := r.targets(ctx, channel)
		if err != nil {
			return nil, err
		}
		for target, sha256 := range targets {
			if paths[target], err = r.paths(ctx, sha256, pick, has); err != nil {
				return nil, err
			}
		}
	}
	contents, err := r.list(ctx, channel, func(target string) index.Picker {
		if len(paths[target]) == 0 {
			return pick
		}
		names := map[string]bool{}
		for identity := range paths[target] {
			name, _, _ := strings.Cut(identity, "@")
			names[name] = true
		}
		return index.Where(func(line []byte) bool { return inLine(line) || names[index.NameIn(line)] })
	})
	if err != nil {
		return nil, err
	}
	var hits []Hit
	for _, l := range contents {
		for _, rec := range l.Records {
			h := Hit{Target: l.Target, Record: rec}
			for _, p := range rec.Provides {
				if text := p.Provide.String(); has(text) {
					h.Text = append(h.Text, text)
				}
			}
			switch {
			case has(rec.Name):
				h.In, h.Text = "name", nil
			case len(h.Text) > 0:
				h.In = "provide"
			case has(rec.Summary):
				h.In = "summary"
			case len(paths[l.Target][rec.Identity()]) > 0:
				h.In, h.Text = "path", paths[l.Target][rec.Identity()]
			default:
				continue
			}
			hits = append(hits, h)
		}
	}
	slices.SortStableFunc(hits, func(a, b Hit) int { return cmp.Compare(ranks[a.In], ranks[b.In]) })
	return hits, nil
}

// paths lists the paths of a snapshot that have something, by package.
func (r *Repository) paths(ctx context.Context, sha256 string, pick index.Picker, has func(string) bool) (map[string][]string, error) {
	s, err := r.Snapshot(ctx, sha256)
	if err != nil {
		return nil, err
	}
	records, err := eachListing(ctx, s.Files, pick, r.Paths)
	if err != nil {
		return nil, err
	}
	found := map[string][]string{}
	for _, p := range records {
		if has(p.Path) {
			found[p.Package] = append(found[p.Package], p.Path)
		}
	}
	return found, nil
}
