package trial

import (
	"bytes"
	"context"
	"debug/elf"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"mvdan.cc/sh/v3/syntax"

	"ellwand.example/core/staging"
)

// program is an ELF file of the package that the dynamic linker loads.
type program struct {
	path        string // in the root
	interpreter string // its own, or that of other programs; empty if it is not known
	library     bool
	linked      bool // a library in a directory that programs are linked from
}

// interpreters are the dynamic linkers of the C libraries, for libraries, which name
// none.
var interpreters = []string{"/lib64/ld-linux-x86-64.so.2", "/lib/ld-linux-aarch64.so.1", "/lib/ld-linux.so.2", "/lib/ld-linux-armhf.so.3", "/lib/ld-linux-riscv64-lp64d.so.1", "/lib64/ld64.so.2"}

// libraries loads every program and library of the package as the dynamic linker would
// (ld.so(8)): with every library that it needs, and every symbol.
func (c *Checker) libraries(ctx context.Context, s Subject) ([]Check, error) {
	usual := ""
	for _, i := range interpreters {
		if c.has(i) {
			usual = i
			break
		}
	}
	var all []program
	for _, e := range s.Layout {
		if e.Type != staging.File || e.Same != "" {
			continue
		}
		p, ok := c.program(s.At(e.Path))
		if !ok {
			continue
		}
		if p.interpreter == "" {
			p.interpreter = usual
		}
		all = append(all, p)
	}
	if len(all) == 0 {
		return nil, nil
	}
	began := time.Now()
	var script strings.Builder
	for i, p := range all {
		if p.interpreter != "" {
			fmt.Fprintf(&script, "echo '== %d'; LD_TRACE_LOADED_OBJECTS=1 LD_WARN=yes LD_BIND_NOW=yes %s %s 2>&1 || echo '== failed'\n", i, quote(p.interpreter), quote(p.path))
		}
	}
	result, err := c.Sandbox.Run(ctx, script.String(), scriptTime)
	if err != nil {
		return nil, err
	}
	said := map[int]string{}
	for part := range strings.SplitSeq("\n"+result.Output, "\n== ") {
		var n int
		if _, err := fmt.Sscan(part, &n); err == nil {
			_, text, _ := strings.Cut(part, "\n")
			said[n] = text
		}
	}
	var out []Check
	for i, p := range all {
		check := Check{Name: Libraries, Subject: p.path, State: Passed, Command: "LD_TRACE_LOADED_OBJECTS=1 " + p.path, Time: time.Since(began) / time.Duration(len(all))}
		text, ran := said[i]
		switch faults := linkFaults(text, p); {
		case !ran:
			check.State, check.Message = Skipped, "the root has no dynamic linker for it"
		case len(faults) > 0:
			check.State, check.Message, check.Output = Failed, faults[0], strings.Join(faults, "\n")
			check.Remedy = "it was linked with another version than the one that is installed: build it again, or raise the bound on the dependency"
		}
		out = append(out, check)
	}
	return out, nil
}

// program reads what kind of ELF file a path is; ok is false for all that the dynamic
// linker does not load.
func (c *Checker) program(p string) (out program, ok bool) {
	f, err := c.Tree.Open(strings.TrimPrefix(p, "/"))
	if err != nil {
		return out, false
	}
	defer f.Close()
	magic := make([]byte, 4)
	if n, err := f.ReadAt(magic, 0); err != nil || n < 4 || !bytes.Equal(magic, []byte(elf.ELFMAG)) {
		return out, false
	}
	e, err := elf.NewFile(f)
	if err != nil || e.Type != elf.ET_EXEC && e.Type != elf.ET_DYN {
		return out, false
	}
	dynamic := false
	out.path = p
	for _, segment := range e.Progs {
		switch segment.Type {
		case elf.PT_DYNAMIC:
			dynamic = true
		case elf.PT_INTERP:
			data := make([]byte, min(segment.Filesz, 4096))
			if _, err := segment.ReadAt(data, 0); err == nil {
				out.interpreter = string(bytes.TrimRight(data, "\x00"))
			}
		}
	}
	if !dynamic {
		return out, false // statically linked
	}
	// A program of its own has an interpreter; one that is linked statically and can be
	// moved has none, and needs nothing either.
	needed, _ := e.ImportedLibraries()
	if out.interpreter == "" {
		out.library = true
		if soname, _ := e.DynString(elf.DT_SONAME); len(soname) == 0 && len(needed) == 0 {
			return out, false
		}
		dir := path.Dir(p)
		out.linked = slices.Contains([]string{"/usr/lib", "/lib", "/usr/lib64", "/lib64"}, dir) || strings.HasSuffix(path.Dir(dir), "/lib") && strings.Contains(path.Base(dir), "-linux-")
	}
	return out, true
}

// linkFaults picks what the dynamic linker could not resolve. A plug-in may use symbols
// of the program that loads it.
func linkFaults(text string, p program) []string {
	var out []string
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case strings.Contains(line, "=> not found"), strings.Contains(line, "version `") && strings.Contains(line, "not found"),
			strings.Contains(line, "cannot open shared object file"), strings.Contains(line, "wrong ELF class"):
			out = append(out, line)
		case strings.HasPrefix(line, "undefined symbol"), strings.HasPrefix(line, "symbol ") && strings.Contains(line, "not defined"):
			if !p.library || p.linked {
				out = append(out, line)
			}
		}
	}
	return out
}

// quote makes a word of the shell.
func quote(s string) string {
	quoted, err := syntax.Quote(s, syntax.LangPOSIX)
	if err != nil {
		return "''" // it has a NUL byte, and names nothing
	}
	return quoted
}
