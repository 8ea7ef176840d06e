package cli

import (
	"bytes"
	"cmp"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/renameio/v2"

	"ellwand.example/cli/figure"
	"ellwand.example/cli/term"
	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe/layout"
	"ellwand.example/core/staging"
)

// measured is a package or an image whose sizes are shown.
type measured struct {
	name            string
	kind            string // "package" or "image"
	installed, file int64  // bytes
}

func measuredPackage(p *ell.Package) measured {
	return measured{p.Facts.Identity(), "package", p.Facts.Size, p.Size}
}

// showTree prints paths as a tree.
func (a *program) showTree(m measured, entries []ell.Entry) {
	w := a.out
	root := &branch{}
	full := map[string]bool{} // directories with something in them
	for _, e := range entries {
		full[path.Dir(e.Path)] = true
	}
	for _, e := range entries {
		label := fact.Visible(path.Base(e.Path))
		l := leaf{bytes: e.Size, cells: []string{e.Kind, e.Mode, e.Owner + ":" + e.Group}}
		switch {
		case e.Type == staging.Directory && full[e.Path]:
			continue
		case e.Type == staging.Directory:
			label += "/"
			l.empty = true
		case e.Type == staging.Symlink:
			label += w.Style(term.Faint, " -> "+fact.Visible(e.Link))
		case e.Same != "":
			label += w.Style(term.Faint, " = "+fact.Visible(e.Same))
			l.bytes = 0
		}
		l.label = label
		root.add(e.Path, l)
	}
	var rows [][]string
	root.rows(w, 0, 3, &rows)
	w.Table([]string{"path", "     size", "kind", "mode", "owner"}, rows)
	w.Printf("%s: %s in %s\n", m.name, fact.Bytes(m.installed), fact.Count(len(entries), "path", "paths"))
}

// directorySize is how much a directory holds, all below it included.
type directorySize struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
	Files int    `json:"files"`
}

// directorySizes sums sizes by directory, the largest first. A directory that holds
// nothing but one other is left out.
func directorySizes(entries []ell.Entry) []directorySize {
	sums := map[string]*directorySize{}
	for _, e := range entries {
		if e.Type != staging.File || e.Same != "" {
			continue
		}
		for dir := path.Dir(e.Path); ; dir = path.Dir(dir) {
			if sums[dir] == nil {
				sums[dir] = &directorySize{Path: dir}
			}
			sums[dir].Bytes += e.Size
			sums[dir].Files++
			if dir == "/" {
				break
			}
		}
	}
	passes := map[string]bool{}
	for dir, f := range sums {
		if above := sums[path.Dir(dir)]; dir != "/" && above.Files == f.Files {
			passes[above.Path] = true
		}
	}
	out := []directorySize{}
	for dir, f := range sums {
		if !passes[dir] {
			out = append(out, *f)
		}
	}
	slices.SortFunc(out, func(a, b directorySize) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Path, b.Path))
	})
	return out
}

// showSizes prints where a package's bytes are.
func (a *program) showSizes(m measured, entries []ell.Entry) error {
	directories := directorySizes(entries)
	files := slices.DeleteFunc(slices.Clone(entries), func(e ell.Entry) bool { return e.Type != staging.File || e.Same != "" })
	slices.SortFunc(files, func(a, b ell.Entry) int { return cmp.Or(cmp.Compare(b.Size, a.Size), cmp.Compare(a.Path, b.Path)) })
	if a.json {
		return a.printJSON(map[string]any{m.kind: m.name, "bytes": m.file, "installed": m.installed, "directories": directories})
	}
	w := a.out
	most := fewLines
	if a.verbose {
		most = len(entries)
	}
	w.Printf("%s: %s installed, %s as a file\n\n", w.Style(term.Strong, m.name), fact.Bytes(m.installed), fact.Bytes(m.file))
	var rows [][]string
	add := func(path string, size int64, about string) {
		rows = append(rows, []string{fmt.Sprintf("%9s", fact.Bytes(size)), w.Style(term.Name, bar(size, m.installed)), fact.Visible(path), w.Style(term.Faint, about)})
	}
	for _, f := range directories[:min(most, len(directories))] {
		add(strings.TrimSuffix(f.Path, "/")+"/", f.Bytes, fact.Count(f.Files, "file", "files"))
	}
	w.Table([]string{"     size", "", "directory", ""}, rows)
	rows = nil
	for _, e := range files[:min(most, len(files))] {
		add(e.Path, e.Size, e.Kind)
	}
	w.Printf("\n")
	w.Table([]string{"     size", "", "file", ""}, rows)
	if n := max(len(directories), len(files)) - most; n > 0 {
		w.Printf("%s\n", w.Style(term.Faint, "the largest ones; -v shows all"))
	}
	return nil
}

// bar is a share of a whole, as a line of blocks.
func bar(part, whole int64) string {
	const cells = 20
	eighths := int(part * cells * 8 / max(whole, 1))
	s := strings.Repeat("█", eighths/8)
	if rest := eighths % 8; rest > 0 {
		s += string([]rune("▏▎▍▌▋▊▉")[rest-1])
	}
	return s
}

// Groups of files, by what they are for, in the picture of sizes.
const (
	groupRun       = "programs and libraries"
	groupBuild     = "to build with"
	groupRead      = "documentation"
	groupLanguages = "translations"
	groupSettings  = "settings and state"
	groupData      = "data"
)

var groups = []string{groupRun, groupBuild, groupRead, groupLanguages, groupSettings, groupData}

func groupOf(e ell.Entry) string {
	base := path.Base(e.Path)
	switch {
	case layout.Development(e.Path):
		return groupBuild
	case e.Kind == fact.KindDocumentation || e.Kind == fact.KindLicense || layout.Documentation(e.Path):
		return groupRead
	case e.Kind == fact.KindTranslation:
		return groupLanguages
	case e.Kind == fact.KindConfig || e.Kind == fact.KindState || e.Kind == fact.KindCache:
		return groupSettings
	case fact.ParseMode(e.Mode)&0o111 != 0 || strings.HasSuffix(base, ".so") || strings.Contains(base, ".so."):
		return groupRun
	}
	return groupData
}

// drawSizes writes a picture of a package's files as areas.
func (a *program) drawSizes(m measured, entries []ell.Entry, file string) error {
	s := figure.Sizes{
		Title:  fmt.Sprintf("%s: %s in %s", m.name, fact.Bytes(m.installed), fact.Count(len(entries), "path", "paths")),
		Groups: groups, Label: fact.Bytes,
	}
	for _, e := range entries {
		if e.Type == staging.File && e.Same == "" {
			s.Items = append(s.Items, figure.Item{Path: fact.Visible(e.Path), Bytes: e.Size, Group: groupOf(e)})
		}
	}
	var b bytes.Buffer
	var err error
	switch filepath.Ext(file) {
	case ".svg":
		err = s.SVG(&b)
	case ".png":
		err = s.PNG(&b)
	default:
		return usageError{fmt.Errorf("--map %s: name a file that ends in .svg or .png", file)}
	}
	if err != nil {
		return err
	}
	if err := renameio.WriteFile(file, b.Bytes(), 0o644); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"file": file, "bytes": b.Len()})
	}
	a.out.Printf("%s  %s\n", a.out.Style(term.Name, file), s.Title)
	return nil
}
