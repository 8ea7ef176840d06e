package lint

import (
	"bytes"
	"debug/elf"
	"path"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/inspect/scan"
	"ellwand.example/core/pattern"
	"ellwand.example/core/staging"
)

// cFile is an example with one program or library, compiled from a C source
// with further flags.
func cFile(to, source, flags string) string {
	return forMachine + `debug = false
[needs]
build = ["command/cc"]
[steps]
stage = '''
cat > tide.c <<'END'
` + source + `
END
install -d "$DESTDIR` + path.Dir(to) + `"
cc $CFLAGS tide.c -o "$DESTDIR` + to + `" $LDFLAGS -s ` + flags + `
'''`
}

const (
	cMain    = "#include <stdio.h>\nint main(void) { puts(\"high water\"); return 0; }"
	cLibrary = "#include <stdio.h>\nint tide(void) { return puts(\"high water\"); }"
	// cLarge has enough code to check its protection.
	cLarge = `#include <stdio.h>
#include <string.h>
__asm__(".text\n.fill 40000,1,0x90");
int main(int n, char **words) {
	char line[40], copy[80];
	strcpy(line, words[0]);
	sprintf(copy, "%s has %d words", line, n);
	fprintf(stderr, "%s\n", copy);
	return strlen(copy) > 9;
}`
)

// linked reports whether a file is a program or library that the dynamic linker
// loads.
func linked(e *scan.ELF) bool {
	return e.Type == scan.Program || e.Type == scan.PIE || e.Type == scan.Shared
}

// soVersion is a library's file name with a version in it.
var soVersion = pattern.New(`\.so\.[0-9]|-[0-9.]+\.so$`)

// dynamicLinker is a path at which the C libraries install theirs.
var dynamicLinker = pattern.New(`^/lib(64|32|x32)?/(ld-linux[A-Za-z0-9_.-]*\.so\.[0-9]+|ld64\.so\.[0-9]+|ld\.so\.[0-9]+|ld-musl-[A-Za-z0-9_-]+\.so\.1)$`)

// fortifiable are functions that _FORTIFY_SOURCE replaces by checked ones.
var fortifiable = wordSet("memcpy memmove memset strcpy strncpy strcat strncat sprintf snprintf vsprintf vsnprintf printf fprintf vfprintf fgets read recv getcwd realpath readlink stpcpy")

func elfRules() []Rule {
	return []Rule{
		ell301(),
		ell302(),
		ell303(),
		ell304(),
		ell305(),
		ell306(),
		ell307(),
		ell308(),
		ell309(),
		ell310(),
		ell311(),
		ell312(),
		ell313(),
		ell314(),
		ell315(),
		ell316(),
		ell317(),
		ell318(),
		ell319(),
		ell320(),
		ell321(),
		ell322(),
		ell323(),
		ell324(),
		ell325(),
		ell326(),
		ell327(),
		ell328(),
		ell329(),
		ell330(),
	}
}

// ell301 reports: executable stack.
func ell301() Rule {
	return Rule{
		Code: "ELL301", Severity: Error, Title: "executable stack",
		Why:    "Data that an attacker puts on the stack can be run as code.",
		Remedy: "mark assembler files with .note.GNU-stack, or link with -Wl,-z,noexecstack",
		Wrong:  cFile("/usr/bin/tide", cMain, "-Wl,-z,execstack"),
		Right:  cFile("/usr/bin/tide", cMain, "-Wl,-z,noexecstack"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.ExecStack && linked(e) {
					c.path(p, "its stack is executable")
				}
			})
		},
	}
}

// ell302 reports: text relocations.
func ell302() Rule {
	return Rule{
		Code: "ELL302", Severity: Error, Title: "text relocations",
		Why:    "Code pages with text relocations are writable and cannot be shared between processes. Hardened systems refuse to load them.",
		Remedy: "compile everything in it with -fPIC",
		Wrong:  cFile("/usr/bin/tide", cMain+"\n__asm__(\".text\\n.quad puts\");", "-Wl,-z,notext"),
		Right:  cFile("/usr/bin/tide", cMain, "-Wl,-z,text"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.TextRel {
					c.path(p, "it has text relocations")
				}
			})
		},
	}
}

// ell303 reports: program without hardening (PIE, RELRO, BIND_NOW).
func ell303() Rule {
	return Rule{
		Code: "ELL303", Severity: Warning, Title: "program without hardening (PIE, RELRO, BIND_NOW)",
		Why:    "Without full RELRO an attacker can redirect calls by overwriting the table of their addresses. A program that is not PIE is loaded at a known address.",
		Remedy: "check that the build uses $CFLAGS and $LDFLAGS; where it assigns its own, pass them on: configure = [\"CFLAGS=$CFLAGS\", \"LDFLAGS=$LDFLAGS\"]",
		Wrong:  cFile("/usr/bin/tide", cMain, "-no-pie -fno-pie"),
		Right:  cFile("/usr/bin/tide", cMain, "-pie -fPIE"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				switch {
				case e.Type == scan.Program && len(e.Needed) > 0 && e.Language != "Go":
					c.path(p, "it is not position-independent (PIE)")
				case (e.Type == scan.PIE || e.Type == scan.Shared) && len(e.Needed) > 0 && !e.FullRelro && e.Language != "Go":
					c.path(p, "its relocations stay writable (no full RELRO)")
				}
			})
		},
	}
}

// ell304 reports: unsafe RUNPATH.
func ell304() Rule {
	return Rule{
		Code: "ELL304", Severity: Error, Title: "unsafe RUNPATH",
		Why:    "A user who can write to a directory in the RUNPATH can make the program load another library. A directory of the build machine does not exist on others.",
		Remedy: "remove -rpath from the link; $ORIGIN and directories below /usr/lib are fine",
		Wrong:  cFile("/usr/bin/tide", cMain, "-Wl,-rpath,/home/ines/lib"),
		Right:  cFile("/usr/bin/tide", cMain, "-Wl,-rpath,/usr/lib/tide"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				for _, dir := range e.Runpath {
					if !fromOrigin(dir) && !strings.HasPrefix(path.Clean(dir)+"/", "/usr/lib") && !strings.HasPrefix(path.Clean(dir)+"/", "/lib") && !strings.HasPrefix(dir, "/opt/"+c.Facts.Name+"/") {
						c.path(p, "its RUNPATH has %q in it", dir)
					}
				}
			})
		},
	}
}

// ell305 reports: machine code in an architecture-independent package.
func ell305() Rule {
	return Rule{
		Code: "ELL305", Severity: Error, Title: "machine code in an architecture-independent package",
		Why:    "It is installed on machines that cannot run it.",
		Remedy: `remove arch = "independent" from the recipe`,
		Wrong:  strings.Replace(cFile("/usr/bin/tide", cMain, ""), `arch = ""`, `arch = "independent"`, 1),
		Right:  cFile("/usr/bin/tide", cMain, ""),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if c.Facts.Arch == fact.Independent && !strings.HasPrefix(p, "/usr/share/") {
					c.path(p, "it is machine code for %s", orUnknown(e.Arch))
				}
			})
		},
	}
}

// ell306 reports: machine code for another architecture.
func ell306() Rule {
	return Rule{
		Code: "ELL306", Severity: Error, Title: "machine code for another architecture",
		Why:    "It cannot run where the package is installed.",
		Remedy: "check which compiler the build used, or keep the file out of the package",
		Wrong:  strings.Replace(cFile("/usr/bin/tide", cMain, ""), "\n'''", "\nprintf '\\026' | dd of=\"$DESTDIR/usr/bin/tide\" bs=1 seek=18 conv=notrunc\n'''", 1),
		Right:  cFile("/usr/bin/tide", cMain, ""),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if c.Facts.Arch != fact.Independent && e.Broken == "" && e.Arch != c.Facts.Arch && e.Type != scan.OtherType && !strings.HasPrefix(p, "/usr/share/") && !strings.HasPrefix(p, "/usr/lib/firmware/") && !testDirectory(p) {
					c.path(p, "it is machine code for %s in a package for %s", orUnknown(e.Arch), c.Facts.Arch)
				}
			})
		},
	}
}

// ell307 reports: library without a soname.
func ell307() Rule {
	return Rule{
		Code: "ELL307", Severity: Warning, Title: "library without a soname",
		Why:    "Programs linked to it record its file name instead, and break when the next version changes it.",
		Remedy: "link it with -Wl,-soname,LIBRARY.so.N",
		Wrong:  cFile("/usr/lib/libtide.so", cLibrary, "-shared -fPIC"),
		Right:  cFile("/usr/lib/libtide.so.1", cLibrary, "-shared -fPIC -Wl,-soname,libtide.so.1"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.Type == scan.Shared && e.Soname == "" && scan.LibraryDir(path.Dir(p)) && strings.HasPrefix(path.Base(p), "lib") {
					c.path(p, "it has no soname")
				}
			})
		},
	}
}

// ell308 reports: soname without a file.
func ell308() Rule {
	return Rule{
		Code: "ELL308", Severity: Error, Title: "soname without a file",
		Why:    "The dynamic linker looks for a file of that name and does not find it.",
		Remedy: "install a link by the soname's name beside the library",
		Wrong:  cFile("/usr/lib/libtide.so.1.2", cLibrary, "-shared -fPIC -Wl,-soname,libtide.so.1"),
		Right:  cFile("/usr/lib/libtide.so.1", cLibrary, "-shared -fPIC -Wl,-soname,libtide.so.1"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.Type != scan.Shared || e.Soname == "" || !scan.LibraryDir(path.Dir(p)) {
					return
				}
				if !c.there(path.Join(path.Dir(p), e.Soname)) {
					c.path(p, "its soname is %q, and the package has no such name beside it", e.Soname)
				}
			})
		},
	}
}

// ell309 reports: unstripped program.
func ell309() Rule {
	return Rule{
		Code: "ELL309", Severity: Hint, Title: "unstripped program",
		Why:    "Symbol tables can be a large part of a program, and only debuggers read them.",
		Remedy: "remove debug = false: packing then moves them into NAME-symbols",
		Wrong:  strings.Replace(cFile("/usr/bin/tide", cMain, ""), " -s ", " ", 1),
		Right:  cFile("/usr/bin/tide", cMain, ""),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.SymbolTable && linked(e) && e.Language != "Go" && !e.DebugInfo {
					c.path(p, "it has its symbol table")
				}
			})
		},
	}
}

// ell310 reports: package could be architecture-independent.
func ell310() Rule {
	return Rule{
		Code: "ELL310", Severity: Hint, Title: "package could be architecture-independent",
		Why:    "An architecture-independent package is built once for all machines.",
		Remedy: `add arch = "independent" to the recipe or the package`,
		Wrong:  forMachine + stageFile(`touch "$DESTDIR/usr/share/tide/table"`),
		Right:  `arch = "independent"` + "\n" + stageFile(`touch "$DESTDIR/usr/share/tide/table"`),
		pkg: func(c *packageCheck) {
			machine := slices.ContainsFunc(c.Layout, func(e ell.Entry) bool {
				lib := strings.HasPrefix(e.Path, "/usr/lib/") && e.Type != staging.Directory && !strings.HasPrefix(e.Path, "/usr/lib/systemd/") && !strings.HasPrefix(e.Path, "/usr/lib/tmpfiles.d/") && !strings.HasPrefix(e.Path, "/usr/lib/sysusers.d/") && !strings.Contains(e.Path, "-packages/")
				return c.files[e.Path].ELF != nil || strings.HasSuffix(e.Path, ".a") || strings.HasSuffix(e.Path, ".cmake") || lib || strings.HasPrefix(e.Path, "/usr/include/")
			})
			if c.Facts.Arch != fact.Independent && !machine && len(c.Layout) > 0 && !c.debug() {
				c.say("the package is for %s, and none of its files is", c.Facts.Arch)
			}
		},
	}
}

// ell311 reports: damaged program.
func ell311() Rule {
	return Rule{
		Code: "ELL311", Severity: Error, Title: "damaged program",
		Why:    "It begins like a program or library but cannot be parsed as one, so it cannot run.",
		Remedy: "find out how it got there; waive this finding for test data",
		Wrong:  forMachine + stageFile(`install -d "$DESTDIR/usr/bin"; printf '\177ELF?' > "$DESTDIR/usr/bin/tide"; chmod 755 "$DESTDIR/usr/bin/tide"`),
		Right:  cFile("/usr/bin/tide", cMain, ""),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.Broken != "" && !testDirectory(p) {
					c.path(p, "it cannot be read: %s", e.Broken)
				}
			})
		},
	}
}

// ell312 reports: library outside the library path.
func ell312() Rule {
	return Rule{
		Code: "ELL312", Severity: Error, Title: "library outside the library path",
		Why:    "The dynamic linker looks in /usr/lib and in the RUNPATH of what needs the library. It finds this one in neither, and the program does not start.",
		Remedy: "install the library to /usr/lib, or link with -Wl,-rpath and the directory that it is in",
		Wrong:  privateLibrary(""),
		Right:  privateLibrary("-Wl,-rpath,/usr/lib/tide"),
		pkg: func(c *packageCheck) {
			at := map[string]string{} // soname → where it lies
			c.eachELF(func(p string, e *scan.ELF) {
				if e.Type == scan.Shared && e.Soname != "" && at[e.Soname] == "" || scan.LibraryDir(path.Dir(p)) {
					at[e.Soname] = p
				}
			})
			c.eachELF(func(p string, e *scan.ELF) {
				for _, soname := range e.Needed {
					lib := at[soname]
					if lib == "" || scan.LibraryDir(path.Dir(lib)) || c.inRunpath(p, e, path.Dir(lib)) {
						continue
					}
					// A plugin's libraries may have been loaded by its program.
					if e.Type == scan.Shared && !scan.LibraryDir(path.Dir(p)) {
						continue
					}
					c.path(p, "it needs %s, which lies at %s", soname, lib)
				}
			})
		},
	}
}

// ell313 reports: soname does not match the file name.
func ell313() Rule {
	return Rule{
		Code: "ELL313", Severity: Warning, Title: "soname does not match the file name",
		Why:    "A program linked with one asks for the other at run time. Usually a line was copied from another library's makefile.",
		Remedy: "make the two names agree",
		Wrong:  strings.Replace(cFile("/usr/lib/libtide.so.1", cLibrary, "-shared -fPIC -Wl,-soname,libebb.so.1"), "\n'''", "\nln -s libtide.so.1 \"$DESTDIR/usr/lib/libebb.so.1\"\n'''", 1),
		Right:  cFile("/usr/lib/libtide.so.1", cLibrary, "-shared -fPIC -Wl,-soname,libtide.so.1"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.Type == scan.Shared && e.Soname != "" && scan.LibraryDir(path.Dir(p)) && scan.Stem(e.Soname) != scan.Stem(path.Base(p)) {
					c.path(p, "its soname is %s", e.Soname)
				}
			})
		},
	}
}

// ell314 reports: soname without a version.
func ell314() Rule {
	return Rule{
		Code: "ELL314", Severity: Warning, Title: "soname without a version",
		Why:    "The next incompatible version has the same soname: programs start with it and crash.",
		Remedy: "link it with -Wl,-soname,LIBRARY.so.N, and increase N with each incompatible change",
		Wrong:  cFile("/usr/lib/libtide.so", cLibrary, "-shared -fPIC -Wl,-soname,libtide.so"),
		Right:  cFile("/usr/lib/libtide.so.1", cLibrary, "-shared -fPIC -Wl,-soname,libtide.so.1"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.Type == scan.Shared && e.Soname != "" && scan.LibraryDir(path.Dir(p)) && strings.HasPrefix(path.Base(p), "lib") && !soVersion.MatchString(e.Soname) {
					c.path(p, "its soname is %s", e.Soname)
				}
			})
		},
	}
}

// ell315 reports: library with undefined symbols.
func ell315() Rule {
	return Rule{
		Code: "ELL315", Severity: Warning, Title: "library with undefined symbols",
		Why:    "It uses symbols that none of its declared libraries has. Programs that link with it must guess the missing library, and loading it fails.",
		Remedy: "link it with the libraries that it uses; -Wl,-z,defs finds the rest",
		Wrong:  cFile("/usr/lib/libtide.so.1", "double moon(double);\ndouble tide(double t) { return moon(t); }", "-shared -fPIC -Wl,-soname,libtide.so.1"),
		Right:  cFile("/usr/lib/libtide.so.1", cLibrary, "-shared -fPIC -Wl,-soname,libtide.so.1"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				// Plugins take symbols from the program that loads them.
				library := e.Type == scan.Shared && e.Soname != "" && scan.LibraryDir(path.Dir(p)) && soVersion.MatchString(e.Soname)
				if !library && e.Type != scan.PIE && e.Type != scan.Program {
					return
				}
				offered, known := c.offered(e.Needed)
				if !known {
					return
				}
				var missing []string
				for _, s := range c.imports[p].strong {
					if !offered[s] && !fromLinker[s] && !strings.HasPrefix(s, "ITM_") && !strings.HasPrefix(s, "_ITM_") {
						missing = append(missing, s)
					}
				}
				if len(missing) > 0 {
					c.path(p, "nothing that it needs has %s", several(missing))
				}
			})
		},
	}
}

// ell316 reports: needs a newer library than the target has.
func ell316() Rule {
	return Rule{
		Code: "ELL316", Severity: Error, Title: "needs a newer library than the target has",
		Why:    "It was built against a newer library. On the target it does not start, because a symbol version is missing.",
		Remedy: "build it on the target's system ([target.NAME] system in ellwand.toml), or publish the newer library with it",
		Wrong:  newerLibrary(1),
		Right:  newerLibrary(2),
		pkg: func(c *packageCheck) {
			system := c.linter.system(c.Facts.Target)
			if system == nil {
				return
			}
			for _, n := range c.Facts.Needs {
				if len(n.Symbols) == 0 {
					continue
				}
				if answer, ok := system.Look(n.Need, n.Symbols); ok && len(answer.Lacks) > 0 {
					c.path(n.Path, "%s of the target has no %s", n.Need, several(answer.Lacks))
				}
			}
		},
	}
}

// ell317 reports: no stack protector.
func ell317() Rule {
	return Rule{
		Code: "ELL317", Severity: Warning, Title: "no stack protector",
		Why:    "None of its functions checks whether its return address was overwritten, which is how most overflows become attacks.",
		Remedy: "check that the build uses $CFLAGS, which contains -fstack-protector-strong",
		Wrong:  cFile("/usr/bin/tide", cLarge, "-fno-stack-protector"),
		Right:  cFile("/usr/bin/tide", cLarge, "-fstack-protector-all"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if c.hasEnoughCode(p, e) && c.uses(p, fortifiable) >= 3 && !slices.Contains(c.imports[p].strong, "__stack_chk_fail") && !slices.Contains(c.imports[p].strong, "__stack_chk_guard") {
					c.path(p, "none of its functions is compiled with -fstack-protector")
				}
			})
		},
	}
}

// ell318 reports: not built with _FORTIFY_SOURCE.
func ell318() Rule {
	return Rule{
		Code: "ELL318", Severity: Warning, Title: "not built with _FORTIFY_SOURCE",
		Why:    "With -D_FORTIFY_SOURCE the C library checks at run time what strcpy and similar functions write. Nothing in this file uses those checks.",
		Remedy: "check that the build uses $CFLAGS, which contains -D_FORTIFY_SOURCE=2, with -O1 or more",
		Wrong:  cFile("/usr/bin/tide", cLarge, "-U_FORTIFY_SOURCE"),
		Right:  cFile("/usr/bin/tide", cLarge, ""),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if !c.hasEnoughCode(p, e) {
					return
				}
				checked := slices.ContainsFunc(c.imports[p].strong, func(s string) bool { return strings.HasSuffix(s, "_chk") && strings.HasPrefix(s, "__") })
				if !checked && c.uses(p, printing) >= 2 && slices.Contains(e.Needed, "libc.so.6") {
					c.path(p, "it calls functions such as %s unchecked", c.firstUsed(p, printing))
				}
			})
		},
	}
}

// ell319 reports: static library without an index.
func ell319() Rule {
	return Rule{
		Code: "ELL319", Severity: Error, Title: "static library without an index",
		Why:    "The linker looks up symbols in the index. Without it, every program that links with the library fails to link. Usually it was stripped like a program.",
		Remedy: "run ranlib on it, and strip it with --strip-debug at most",
		Wrong:  staticLibrary("S"),
		Right:  staticLibrary("s"),
		file: func(c *fileCheck) {
			if !strings.HasSuffix(c.Path, ".a") || c.data == nil || !bytes.HasPrefix(c.data, []byte("!<arch>\n")) || len(c.data) < 68 {
				return
			}
			first := strings.TrimSpace(string(c.data[8:24]))
			object := bytes.Contains(c.data, []byte("\x7fELF"))
			if object && first != "/" && first != "/SYM64/" && !strings.HasPrefix(first, "__.SYMDEF") {
				c.say("its first member is %q, and not the index", strings.TrimSuffix(first, "/"))
			}
		},
	}
}

// ell320 reports: redundant RUNPATH.
func ell320() Rule {
	return Rule{
		Code: "ELL320", Severity: Hint, Title: "redundant RUNPATH",
		Why:    "The dynamic linker searches there anyway. The entry prevents trying the file with a library from another directory.",
		Remedy: "remove -rpath from the link",
		Wrong:  cFile("/usr/bin/tide", cMain, "-Wl,-rpath,/usr/lib"),
		Right:  cFile("/usr/bin/tide", cMain, ""),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				for _, dir := range e.Runpath {
					if scan.LibraryDir(path.Clean(dir)) {
						c.path(p, "its RUNPATH has %s in it, where libraries are looked for anyway", dir)
					}
				}
			})
		},
	}
}

// ell321 reports: RPATH instead of RUNPATH.
func ell321() Rule {
	return Rule{
		Code: "ELL321", Severity: Hint, Title: "RPATH instead of RUNPATH",
		Why:    "RPATH has precedence over LD_LIBRARY_PATH, so nobody can try the program with another library, and it also applies to the dependencies of libraries.",
		Remedy: "link with -Wl,--enable-new-dtags, or without -rpath",
		Wrong:  cFile("/usr/bin/tide", cMain, "-Wl,-rpath,/usr/lib/tide,--disable-new-dtags"),
		Right:  cFile("/usr/bin/tide", cMain, "-Wl,-rpath,/usr/lib/tide,--enable-new-dtags"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.RPath {
					c.path(p, "it has the tag DT_RPATH, with %s", strings.Join(e.Runpath, ":"))
				}
			})
		},
	}
}

// ell322 reports: debug information beside programs.
func ell322() Rule {
	return Rule{
		Code: "ELL322", Severity: Warning, Title: "debug information beside programs",
		Why:    "It is often many times larger than the program, and useful only to the few people who investigate a crash.",
		Remedy: "remove debug = false: packing then moves it into NAME-symbols",
		Wrong:  strings.Replace(cFile("/usr/bin/tide", cMain, "-g"), " -s ", " ", 1),
		Right:  cFile("/usr/bin/tide", cMain, "-g"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.DebugInfo && linked(e) && e.Language != "Go" {
					c.path(p, "it has debug information in it")
				}
			})
		},
	}
}

// ell323 reports: dynamic linker does not exist.
func ell323() Rule {
	return Rule{
		Code: "ELL323", Severity: Error, Title: "dynamic linker does not exist",
		Why:    "The kernel starts the program through its dynamic linker. If that does not exist, the error is `not found`, for the program itself.",
		Remedy: "remove --dynamic-linker from the link; patch a prebuilt program to use the usual one",
		Wrong:  cFile("/usr/bin/tide", cMain, "-Wl,--dynamic-linker=/opt/tide/ld.so"),
		Right:  cFile("/usr/bin/tide", cMain, ""),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.Interpreter != "" && !dynamicLinker.MatchString(e.Interpreter) && !strings.HasPrefix(e.Interpreter, "/usr/lib") && !c.there(e.Interpreter) && e.Type != scan.Shared {
					c.path(p, "it is started by %s", e.Interpreter)
				}
			})
		},
	}
}

// ell324 reports: machine code under /usr/share.
func ell324() Rule {
	return Rule{
		Code: "ELL324", Severity: Error, Title: "machine code under /usr/share",
		Why:    "Files there may be shared between machines of different architectures (Filesystem Hierarchy Standard 3.0, section 4.11).",
		Remedy: "install programs that are not for the PATH to /usr/libexec/NAME, and plugins to /usr/lib/NAME",
		Wrong:  cFile("/usr/share/tide/tide", cMain, ""),
		Right:  cFile("/usr/libexec/tide/tide", cMain, ""),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				// Code for other machines is data here, such as firmware.
				own := c.Facts.Arch == fact.Independent || c.Facts.Arch == e.Arch
				if strings.HasPrefix(p, "/usr/share/") && linked(e) && own && !testDirectory(p) {
					c.path(p, "it is machine code for %s", orUnknown(e.Arch))
				}
			})
		},
	}
}

// ell325 reports: writable and executable segment.
func ell325() Rule {
	return Rule{
		Code: "ELL325", Severity: Error, Title: "writable and executable segment",
		Why:    "Whatever an attacker writes into that segment can be executed. Hardened kernels refuse to load it.",
		Remedy: "find the object file with such a section; the linker warns of it",
		Wrong:  cFile("/usr/bin/tide", cMain+"\n__asm__(\".section .both,\\\"awx\\\",@progbits\\n.byte 0\\n.text\");", ""),
		Right:  cFile("/usr/bin/tide", cMain, ""),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if e.WriteExec && linked(e) {
					c.path(p, "a segment of it is writable and executable")
				}
			})
		},
	}
}

// ell326 reports: statically linked program.
func ell326() Rule {
	return Rule{
		Code: "ELL326", Severity: Hint, Title: "statically linked program",
		Why:    "When a library is fixed, this program keeps the old code until somebody rebuilds it, and nothing tells them to.",
		Remedy: "remove -static; if it is intended, as for a rescue system, waive this finding",
		Wrong:  cFile("/usr/bin/tide", cMain, "-static"),
		Right:  cFile("/usr/bin/tide", cMain, ""),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if (e.Type == scan.Program || e.Type == scan.PIE) && len(e.Needed) == 0 && e.Interpreter == "" && e.Language == "" && e.Code > 100<<10 && !strings.HasPrefix(p, "/boot/") {
					c.path(p, "it contains its own libraries")
				}
			})
		},
	}
}

// ell327 reports: unused library dependency.
func ell327() Rule {
	return Rule{
		Code: "ELL327", Severity: Hint, Title: "unused library dependency",
		Why:    "It must be installed and is loaded at every start, but is not used.",
		Remedy: "link with -Wl,--as-needed in front of the libraries",
		Wrong:  cFile("/usr/bin/tide", cMain, "-Wl,--no-as-needed -lm"),
		Right:  cFile("/usr/bin/tide", cMain, "-Wl,--as-needed -lm"),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				used := map[string]bool{}
				in := c.imports[p]
				for _, list := range [][]string{in.strong, in.weak, in.own} {
					for _, s := range list {
						used[s] = true
					}
				}
				if len(in.strong) == 0 || e.Language != "" {
					return
				}
				var idle []string
				for _, soname := range e.Needed {
					if strings.HasPrefix(soname, "ld-") || strings.HasPrefix(soname, "libgcc_s.") || strings.HasPrefix(soname, "libc.") || cpp(e) && strings.HasPrefix(soname, "libm.") {
						continue
					}
					lib, ok := c.library(soname)
					if ok && len(lib.exports) > 0 && !slices.ContainsFunc(lib.exports, func(s string) bool { return used[s] }) {
						idle = append(idle, soname)
					}
				}
				if len(idle) > 0 {
					c.path(p, "it uses no symbol of %s", several(idle))
				}
			})
		},
	}
}

// ell328 reports: program without a build ID.
func ell328() Rule {
	return Rule{
		Code: "ELL328", Severity: Hint, Title: "program without a build ID",
		Why:    "A debugger uses it to find the debug information of a crash.",
		Remedy: "check that the build uses $LDFLAGS, which contains -Wl,--build-id",
		Wrong:  cFile("/usr/bin/tide", cMain, "-Wl,--build-id=none"),
		Right:  cFile("/usr/bin/tide", cMain, ""),
		pkg: func(c *packageCheck) {
			c.eachELF(func(p string, e *scan.ELF) {
				if linked(e) && e.BuildID == "" && e.Language == "" && e.Broken == "" && len(e.Needed) > 0 {
					c.path(p, "it has no build id")
				}
			})
		},
	}
}

// ell329 reports: static library with debug information.
func ell329() Rule {
	return Rule{
		Code: "ELL329", Severity: Hint, Title: "static library with debug information",
		Why:    "It is several times as large with it, and the information names files of the build that nobody has.",
		Remedy: "leave `debug` out of the recipe, so that it is stripped; or run strip --strip-debug on it",
		Wrong:  staticLibrary("s", "-g"),
		Right:  staticLibrary("s", "-g0"),
		file: func(c *fileCheck) {
			if strings.HasSuffix(c.Path, ".a") && bytes.HasPrefix(c.data, []byte("!<arch>\n")) && bytes.Contains(c.data, []byte(".debug_info\x00")) {
				c.say("its members have debug information")
			}
		},
	}
}

// localPath is a directory under /usr/local that programs have for what is theirs.
var localPath = pattern.New(`/usr/local/(?:etc|var|share|lib|libexec)/[A-Za-z0-9._/+-]*`)

// ell330 reports: directory under /usr/local compiled in.
func ell330() Rule {
	return Rule{
		Code: "ELL330", Severity: Warning, Title: "directory under /usr/local compiled in",
		Why:    "The program looks for its files where the package does not install them: it was configured for another prefix.",
		Remedy: "configure it with --prefix=\"$PREFIX\", or what its build system has in place of that",
		Wrong:  cFile("/usr/bin/tide", strings.ReplaceAll(cMain, "high water", "/usr/local/share/tide/tables"), ""),
		Right:  cFile("/usr/bin/tide", strings.ReplaceAll(cMain, "high water", "/usr/share/tide/tables"), ""),
		file: func(c *fileCheck) {
			if !bytes.HasPrefix(c.data, []byte(elf.ELFMAG)) || strings.HasPrefix(c.Path, debugDir) {
				return
			}
			for _, found := range localPath.FindAllString(string(c.data), 100) {
				// Lists of usual places have this prefix in them, too.
				if strings.Contains(found, "/"+c.pkg.Facts.Recipe) || strings.Contains(found, "/"+c.pkg.Facts.Name) {
					c.say("it has %s in it", found)
					return
				}
			}
		},
	}
}

// printing are those functions of which nearly every call is replaced by a
// checked one.
var printing = wordSet("sprintf snprintf vsprintf vsnprintf printf fprintf vfprintf vprintf")

// fromLinker are symbols that the linker or the loader provides.
var fromLinker = wordSet("_GLOBAL_OFFSET_TABLE_ __bss_start _edata _end edata end __ehdr_start _DYNAMIC __dso_handle environ __environ _IO_stdin_used __tls_get_addr")

// cpp reports whether a file is linked with the C++ library, whose compiler
// always adds the mathematical one.
func cpp(e *scan.ELF) bool {
	return slices.ContainsFunc(e.Needed, func(s string) bool { return strings.HasPrefix(s, "libstdc++.") || strings.HasPrefix(s, "libc++.") })
}

// fromOrigin reports whether a directory of a RUNPATH begins where the file lies.
func fromOrigin(dir string) bool {
	return strings.HasPrefix(dir, "$ORIGIN") || strings.HasPrefix(dir, "${ORIGIN}")
}

// inRunpath reports whether a file looks for libraries in dir.
func (c *packageCheck) inRunpath(p string, e *scan.ELF, dir string) bool {
	return slices.ContainsFunc(e.Runpath, func(d string) bool {
		if fromOrigin(d) {
			d = strings.NewReplacer("${ORIGIN}", path.Dir(p), "$ORIGIN", path.Dir(p)).Replace(d)
		}
		return path.Clean(d) == dir
	})
}

// hasEnoughCode reports whether a file has compiled C in it, enough that its
// protection can be checked.
func (c *packageCheck) hasEnoughCode(p string, e *scan.ELF) bool {
	return linked(e) && e.Language == "" && e.Code > 32<<10 && len(e.Needed) > 0 && slices.ContainsFunc(e.Needed, func(s string) bool { return strings.HasPrefix(s, "libc.") })
}

// uses counts the functions among names that a file uses, by whatever checked
// name.
func (c *packageCheck) uses(p string, names map[string]bool) int {
	n := 0
	for _, s := range c.imports[p].strong {
		if names[s] || names[strings.TrimSuffix(strings.TrimPrefix(s, "__"), "_chk")] {
			n++
		}
	}
	return n
}

func (c *packageCheck) firstUsed(p string, names map[string]bool) string {
	for _, s := range c.imports[p].strong {
		if names[s] {
			return s
		}
	}
	return ""
}

func orUnknown(arch string) string {
	if arch == "" {
		return "an unknown machine"
	}
	return arch
}

// library is a shared library of the package or of the system.
type library struct {
	exports []string // names without versions
	needed  []string
}

// library looks a soname up: in the package first, then in the system.
func (c *packageCheck) library(soname string) (library, bool) {
	for p, f := range c.files {
		if f.ELF != nil && f.ELF.Type == scan.Shared && f.ELF.Soname == soname {
			return library{c.imports[p].own, f.ELF.Needed}, true
		}
	}
	system := c.linter.system(c.Facts.Target)
	if system == nil {
		return library{}, false
	}
	return c.linter.libraries.get(system, soname)
}

// offered are the symbols of libraries and of all that they need; known is
// false where one of them is not at hand.
func (c *packageCheck) offered(needed []string) (symbols map[string]bool, known bool) {
	symbols = map[string]bool{}
	seen := map[string]bool{}
	for queue := slices.Clone(needed); len(queue) > 0; queue = queue[1:] {
		if seen[queue[0]] {
			continue
		}
		seen[queue[0]] = true
		lib, ok := c.library(queue[0])
		if !ok {
			return nil, false
		}
		for _, s := range lib.exports {
			symbols[s] = true
		}
		queue = append(queue, lib.needed...)
	}
	return symbols, true
}

// privateLibrary is an example with a program and a library in a directory of its
// own.
func privateLibrary(flags string) string {
	return forMachine + `debug = false
[needs]
build = ["command/cc"]
[steps]
stage = '''
install -d "$DESTDIR/usr/lib/tide" "$DESTDIR/usr/bin"
echo 'int tide(void) { return 0; }' > lib.c
cc $CFLAGS -shared -fPIC lib.c -o "$DESTDIR/usr/lib/tide/libtide.so.1" -Wl,-soname,libtide.so.1 $LDFLAGS -s
echo 'int tide(void); int main(void) { return tide(); }' > main.c
cc $CFLAGS main.c -o "$DESTDIR/usr/bin/tide" "$DESTDIR/usr/lib/tide/libtide.so.1" $LDFLAGS -s ` + flags + `
'''`
}

// newerLibrary is an example with a program that needs the second version of a
// library's symbols, on a target that has the one of that number.
func newerLibrary(has int) string {
	version := string(rune('0' + has))
	return forMachine + `debug = false
[needs]
build = ["command/cc"]
[steps]
stage = '''
install -d "$DESTDIR/usr/bin"
echo 'int tide(void) { return 0; }' > lib.c
echo 'TIDE_2 { global: tide; };' > lib.map
cc $CFLAGS -shared -fPIC lib.c -o libtide.so.1 -Wl,-soname,libtide.so.1,--version-script=lib.map $LDFLAGS
echo 'int tide(void); int main(void) { return tide(); }' > main.c
cc $CFLAGS main.c -o "$DESTDIR/usr/bin/tide" ./libtide.so.1 $LDFLAGS -s
'''
-- /ellwand.toml --
name = "example"
[build]
target = "saltmarsh-7"
-- then --
mkdir -p base/usr/lib base/bin base/etc
cp /bin/sh base/bin/sh
cp -r /etc/ld.so.conf* base/etc/
ldd /bin/sh | grep -o '/[^ ]*' | while read -r lib; do install -D "$lib" "base$lib"; done
echo 'int tide(void) { return 0; }' > lib.c
echo 'TIDE_` + version + ` { global: tide; };' > lib.map
cc -shared -fPIC lib.c -o base/usr/lib/libtide.so.1 -Wl,-soname,libtide.so.1,--version-script=lib.map
printf '[target.saltmarsh-7]\nsystem = "base"\n' >> ellwand.toml
`
}

// staticLibrary is an example with a static library, made with an option of
// ar.
func staticLibrary(option string, flags ...string) string {
	return forMachine + `debug = false
[needs]
build = ["command/cc", "command/ar"]
[steps]
stage = '''
install -d "$DESTDIR/usr/lib"
echo 'int tide(void) { return 0; }' > tide.c
cc $CFLAGS ` + strings.Join(flags, " ") + ` -c tide.c
ar rc` + option + ` "$DESTDIR/usr/lib/libtide.a" tide.o
'''`
}
