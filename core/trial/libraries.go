package trial

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"mvdan.cc/sh/v3/syntax"

	"ellwand.example/core/inspect/scan"
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
	said := map[int]string{}
	took := map[int]time.Duration{}
	for first := 0; first < len(all); first += atOnce {
		batch := all[first:min(first+atOnce, len(all))]
		began := time.Now()
		found, err := c.trace(ctx, batch)
		if err != nil {
			return nil, err
		}
		for i, p := range batch {
			if _, ok := found[i]; !ok && c.has(p.interpreter) {
				// What others said took all the room.
				alone, err := c.trace(ctx, batch[i:i+1])
				if err != nil {
					return nil, err
				}
				if text, ok := alone[0]; ok {
					found[i] = text
				}
			}
			if text, ok := found[i]; ok {
				said[first+i] = text
			}
		}
		for i := range batch {
			took[first+i] = time.Since(began) / time.Duration(len(batch))
		}
	}
	var out []Check
	for i, p := range all {
		check := Check{Name: Libraries, Subject: p.path, State: Passed, Command: "LD_TRACE_LOADED_OBJECTS=1 " + p.path, Time: took[i]}
		text, ran := said[i]
		switch faults := linkFaults(text, p); {
		case p.interpreter == "":
			check.State, check.Message = Skipped, "the root has no dynamic linker for it"
		case !c.has(p.interpreter):
			check.State, check.Message = Failed, "its dynamic linker is missing: "+p.interpreter
		case !ran:
			check.State, check.Message = Failed, "the dynamic linker gave no answer about it"
		case len(faults) > 0:
			check.State, check.Message, check.Output = Failed, faults[0], end(strings.Join(faults, "\n"))
			check.Remedy = "it was linked with another version than the one that is installed: build it again, or raise the bound on the dependency"
		}
		out = append(out, check)
	}
	return out, nil
}

// atOnce is how many programs are traced in one sandbox.
const atOnce = 32

// broken marks a program that the dynamic linker itself gave up.
const broken = "-- the dynamic linker failed"

// trace has the dynamic linker load programs, and returns what it said about each, by
// their place.
func (c *Checker) trace(ctx context.Context, all []program) (map[int]string, error) {
	var script strings.Builder
	for i, p := range all {
		if c.has(p.interpreter) {
			fmt.Fprintf(&script, "echo; echo '== %d'; LD_TRACE_LOADED_OBJECTS=1 LD_WARN=yes LD_BIND_NOW=yes %s %s 2>&1 || echo '%s'\n", i, quote(p.interpreter), quote(p.path), broken)
		}
	}
	if script.Len() == 0 {
		return map[int]string{}, nil
	}
	result, err := c.Sandbox.Run(ctx, script.String(), scriptTime)
	if err != nil {
		return nil, err
	}
	said := map[int]string{}
	for part := range strings.SplitSeq(result.Output, "\n== ") {
		number, text, ok := strings.Cut(part, "\n")
		if n, err := strconv.Atoi(number); err == nil && ok && n < len(all) {
			said[n] = text
		}
	}
	return said, nil
}

// program reads what kind of ELF file a path is; ok is false for all that the dynamic
// linker does not load: statically linked programs, objects, and other files.
func (c *Checker) program(p string) (out program, ok bool) {
	f, size, err := c.open(p)
	if err != nil {
		return out, false
	}
	defer f.Close()
	found, err := scan.Contents(p, f, size)
	if err != nil || found.ELF == nil {
		return out, false
	}
	e := found.ELF
	out = program{path: p, interpreter: e.Interpreter, library: e.Interpreter == ""}
	if !out.library {
		return out, true
	}
	dir := path.Dir(p)
	out.linked = slices.Contains([]string{"/usr/lib", "/lib", "/usr/lib64", "/lib64"}, dir) || strings.HasSuffix(path.Dir(dir), "/lib") && strings.Contains(path.Base(dir), "-linux-")
	return out, e.Soname != "" || len(e.Needed) > 0
}

// linkFaults picks what the dynamic linker could not resolve. A plug-in may use symbols
// of the program that loads it.
func linkFaults(text string, p program) []string {
	var out []string
	undefined := false
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case strings.Contains(line, "=> not found"), strings.Contains(line, "version `") && strings.Contains(line, "not found"),
			strings.Contains(line, "cannot open shared object file"), strings.Contains(line, "wrong ELF class"):
			out = append(out, line)
		case strings.HasPrefix(line, "undefined symbol"), strings.HasPrefix(line, "symbol ") && strings.Contains(line, "not defined"):
			undefined = true
			if !p.library || p.linked {
				out = append(out, line)
			}
		}
	}
	if len(out) == 0 && !undefined && strings.Contains(text, broken) {
		out = append(out, strings.TrimSpace("the dynamic linker failed: "+strings.TrimSpace(strings.ReplaceAll(text, broken, ""))))
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
