package cli

import (
	"bytes"
	"context"
	"io"
	"strings"

	"ellwand.example/cli/term"
	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/staging"
)

// elfFile is an ELF file of a package.
type elfFile struct {
	Path string    `json:"path"`
	ELF  *scan.ELF `json:"elf"`
}

// maxProgram bounds the files that are looked into.
const maxProgram = 512 << 20

// programsOf looks into all files of a package.
func programsOf(ctx context.Context, p *ell.Package, entries []ell.Entry) ([]elfFile, error) {
	byDigest := map[string]*scan.ELF{}
	var files []ell.Entry
	for _, e := range entries {
		if e.Type == staging.File && e.Same == "" && e.Copy == "" && e.Size <= maxProgram {
			files = append(files, e)
		}
	}
	err := p.Contents(ctx, files, func(e ell.Entry, r io.Reader) error {
		head := make([]byte, 4)
		if n, _ := io.ReadFull(r, head); string(head[:n]) != "\x7fELF" {
			return nil
		}
		rest, err := io.ReadAll(r)
		if err != nil {
			return err
		}
		f, err := scan.Contents(e.Path, bytes.NewReader(append(head, rest...)), e.Size)
		byDigest[e.SHA256] = f.ELF
		return err
	})
	out := []elfFile{}
	for _, e := range entries {
		if elf := byDigest[e.SHA256]; e.Type == staging.File && elf != nil {
			out = append(out, elfFile{e.Path, elf})
		}
	}
	return out, err
}

// showPrograms prints what a package's ELF files are.
func (a *program) showPrograms(ctx context.Context, p *ell.Package, entries []ell.Entry) error {
	found, err := programsOf(ctx, p, entries)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(found)
	}
	w := a.out
	if len(found) == 0 {
		w.Printf("%s has no programs or libraries in ELF\n", p.Facts.Identity())
		return nil
	}
	doubtful := func(bad bool, text string) string {
		if bad {
			return w.Style(term.Doubtful, text)
		}
		return text
	}
	var rows [][]string
	for _, f := range found {
		e := f.ELF
		if e.Broken != "" {
			rows = append(rows, []string{fact.Visible(f.Path), w.Style(term.Bad, "damaged"), "", "", "", fact.Visible(e.Broken)})
			continue
		}
		what := e.Type
		if e.Soname != "" {
			what = e.Soname
		}
		relocations := "read-only"
		switch {
		case !e.Relro:
			relocations = "writable"
		case !e.FullRelro:
			relocations = "in part"
		}
		stack := "data"
		if e.ExecStack {
			stack = "runs"
		}
		runs := e.Type == scan.PIE || e.Type == scan.Program || e.Type == scan.Shared
		if !runs {
			relocations, stack = "", ""
		}
		id := e.BuildID
		if len(id) > 12 && !a.verbose {
			id = id[:12] + "…"
		}
		rows = append(rows, []string{
			fact.Visible(f.Path), doubtful(e.Type == scan.Program, fact.Visible(what)), doubtful(runs && !e.FullRelro, relocations), doubtful(e.ExecStack, stack),
			id, fact.Visible(strings.Join(e.Runpath, ":")),
		})
	}
	w.Table([]string{"path", "what it is", "relocations", "stack", "build id", "looks for libraries in"}, rows)
	return nil
}
