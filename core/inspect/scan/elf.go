package scan

import (
	"debug/elf"
	"encoding/hex"
	"io"
	"slices"
	"strings"
)

// Types of ELF file.
const (
	Program     = "program"     // runs at fixed addresses
	PIE         = "pie"         // runs anywhere
	Shared      = "shared"      // a library
	Relocatable = "relocatable" // an object file
	OtherType   = "other"
)

// ELF is what matters of an ELF file.
type ELF struct {
	Arch        string // as uname -m says it; empty for others
	Type        string
	Interpreter string
	Soname      string
	Needed      []string            // DT_NEEDED
	Symbols     map[string][]string // needed soname → symbol versions
	Defined     []string            // symbol versions that it defines, sorted
	Runpath     []string            // DT_RUNPATH and DT_RPATH
	BuildID     string
	FullRelro   bool // relocations are read-only once it runs
	Relro       bool // some of them are
	ExecStack   bool
	TextRel     bool
	WriteExec   bool   // a segment can be both written and run
	DebugInfo   bool   // it has DWARF debug information
	RPath       bool   // some of Runpath is in the older DT_RPATH
	Code        int64  // bytes of its executable segments
	Language    string // Go or Rust, where a file tells; empty for others
	SymbolTable bool   // it is not stripped
	Broken      string // what is wrong with the file, where it cannot be read
}

var arches = map[elf.Machine]string{
	elf.EM_X86_64: "x86_64", elf.EM_AARCH64: "aarch64", elf.EM_386: "i686", elf.EM_ARM: "armv7l",
	elf.EM_RISCV: "riscv64", elf.EM_PPC64: "ppc64le", elf.EM_S390: "s390x", elf.EM_LOONGARCH: "loongarch64",
}

// Section and note constants that debug/elf does not name.
const (
	noteGNUBuildID = 3
	flagNow        = 0x8 // DF_BIND_NOW
	flag1Now       = 0x1 // DF_1_NOW
	flag1PIE       = 0x08000000
	flagTextRel    = 0x4
)

func readELF(r io.ReaderAt) *ELF {
	f, err := elf.NewFile(r)
	if err != nil {
		return &ELF{Broken: err.Error()}
	}
	e := &ELF{Arch: arches[f.Machine], Type: OtherType, SymbolTable: f.Section(".symtab") != nil}
	e.DebugInfo = f.Section(".debug_info") != nil || f.Section(".zdebug_info") != nil
	switch {
	case f.Section(".go.buildinfo") != nil || f.Section(".note.go.buildid") != nil:
		e.Language = "Go"
	case f.Section(".rustc") != nil || strings.Contains(comment(f), "rustc"):
		e.Language = "Rust"
	}
	switch f.Type {
	case elf.ET_EXEC:
		e.Type = Program
	case elf.ET_REL:
		e.Type = Relocatable
	case elf.ET_DYN:
		e.Type = Shared
	}
	stack := false
	for _, p := range f.Progs {
		switch p.Type {
		case elf.PT_LOAD:
			if p.Flags&elf.PF_X != 0 {
				e.Code += int64(p.Filesz)
				e.WriteExec = e.WriteExec || p.Flags&elf.PF_W != 0
			}
		case elf.PT_INTERP:
			if b, err := io.ReadAll(io.LimitReader(p.Open(), 4096)); err == nil {
				e.Interpreter = strings.TrimRight(string(b), "\x00")
			}
		case elf.PT_GNU_RELRO:
			e.Relro = true
		case elf.PT_GNU_STACK:
			stack = true
			e.ExecStack = p.Flags&elf.PF_X != 0
		case elf.PT_NOTE:
			if id := buildID(p, f); id != "" {
				e.BuildID = id
			}
		}
	}
	if !stack && (e.Type == Program || e.Type == Shared) {
		e.ExecStack = true // without the header, the kernel gives an executable one
	}
	e.dynamic(f)
	return e
}

func (e *ELF) dynamic(f *elf.File) {
	first := func(tag elf.DynTag) string {
		if s, err := f.DynString(tag); err == nil && len(s) > 0 {
			return s[0]
		}
		return ""
	}
	bits := func(tag elf.DynTag) uint64 {
		var all uint64
		if v, err := f.DynValue(tag); err == nil {
			for _, x := range v {
				all |= x
			}
		}
		return all
	}
	present := func(tag elf.DynTag) bool {
		v, err := f.DynValue(tag)
		return err == nil && len(v) > 0
	}
	if needed, err := f.DynString(elf.DT_NEEDED); err == nil {
		e.Needed = needed
	}
	e.Soname = first(elf.DT_SONAME)
	for _, tag := range []elf.DynTag{elf.DT_RUNPATH, elf.DT_RPATH} {
		if p := first(tag); p != "" {
			e.Runpath = append(e.Runpath, strings.Split(p, ":")...)
			e.RPath = e.RPath || tag == elf.DT_RPATH
		}
	}
	flags, flags1 := bits(elf.DT_FLAGS), bits(elf.DT_FLAGS_1)
	if e.Type == Shared && (flags1&flag1PIE != 0 || e.Interpreter != "" && e.Soname == "") {
		e.Type = PIE
	}
	e.FullRelro = e.Relro && (flags&flagNow != 0 || flags1&flag1Now != 0 || present(elf.DT_BIND_NOW))
	e.TextRel = flags&flagTextRel != 0 || present(elf.DT_TEXTREL)
	if defined, err := f.DynamicVersions(); err == nil {
		for _, v := range defined {
			if v.Flags&elf.VER_FLG_BASE == 0 {
				e.Defined = append(e.Defined, v.Name)
			}
		}
		slices.Sort(e.Defined)
	}
	versions, err := f.DynamicVersionNeeds()
	if err != nil {
		return
	}
	e.Symbols = map[string][]string{}
	for _, v := range versions {
		for _, n := range v.Needs {
			e.Symbols[v.Name] = append(e.Symbols[v.Name], n.Dep)
		}
		slices.Sort(e.Symbols[v.Name])
	}
}

// comment is what compilers have left in a file.
func comment(f *elf.File) string {
	s := f.Section(".comment")
	if s == nil {
		return ""
	}
	b, err := io.ReadAll(io.LimitReader(s.Open(), 4096))
	if err != nil {
		return ""
	}
	return string(b)
}

// buildID finds the GNU build id among a segment's notes.
func buildID(p *elf.Prog, f *elf.File) string {
	b, err := io.ReadAll(io.LimitReader(p.Open(), 1<<16))
	if err != nil {
		return ""
	}
	align := func(n uint32) uint64 { return (uint64(n) + 3) &^ 3 }
	for len(b) >= 12 {
		nameSize, descSize, kind := f.ByteOrder.Uint32(b), f.ByteOrder.Uint32(b[4:]), f.ByteOrder.Uint32(b[8:])
		start := 12 + align(nameSize)
		if start+uint64(descSize) > uint64(len(b)) {
			return ""
		}
		desc := b[start:][:descSize]
		if kind == noteGNUBuildID && strings.HasPrefix(string(b[12:]), "GNU\x00") {
			return hex.EncodeToString(desc)
		}
		b = b[min(start+align(descSize), uint64(len(b))):] // the last one may lack its padding
	}
	return ""
}
