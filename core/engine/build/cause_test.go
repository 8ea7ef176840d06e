package build

import (
	"strings"
	"testing"
)

func TestDiagnose(t *testing.T) {
	for _, c := range []struct{ log, kind, what, need string }{
		{"checking for zlib.h... no\ntide.c:3:10: fatal error: zlib.h: No such file or directory\ncompilation terminated.", MissingHeader, "zlib.h", "header/zlib.h"},
		{"tide.c:1:10: fatal error: 'sys/tide.h' file not found", MissingHeader, "sys/tide.h", "header/sys/tide.h"},
		{"No package 'harmonic' found", MissingModule, "harmonic", "pkgconfig/harmonic"},
		{"meson.build:4:0: ERROR: Dependency \"glib-2.0\" not found, tried pkgconfig and cmake", MissingModule, "glib-2.0", "pkgconfig/glib-2.0"},
		{"ModuleNotFoundError: No module named 'setuptools'", MissingModule, "setuptools", "python/setuptools"},
		{"Can't locate Text/Template.pm in @INC (you may", MissingModule, "Text::Template", "perl/Text::Template"},
		{"/usr/bin/ld: cannot find -lharmonic: No such file or directory", MissingLibrary, "harmonic", ""},
		{"build: 3: tidegen: not found", MissingCommand, "tidegen", "command/tidegen"},
		{"/bin/sh: 1: tidegen: not found", MissingCommand, "tidegen", "command/tidegen"},
		{"bash: line 12: tide-gen: command not found", MissingCommand, "tide-gen", "command/tide-gen"},
		{"make[2]: bison: No such file or directory", MissingCommand, "bison", "command/bison"},
		{"Can't exec \"autopoint\": No such file or directory at FileUtils.pm", MissingCommand, "autopoint", "command/autopoint"},
		{"env: 'python': No such file or directory", MissingCommand, "python", "command/python"},
		{"install: cannot create regular file '/usr/bin/tide': Read-only file system", WritesOutside, "/usr/bin/tide", ""},
		{"mkdir: cannot create directory ‘/usr/share/man’: Read-only file system", WritesOutside, "/usr/share/man", ""},
		{"stage: 2: cannot create /usr/x: Read-only file system", WritesOutside, "/usr/x", ""},
		{"[Errno 30] Read-only file system", WritesOutside, "", ""},
		{"curl: (6) Could not resolve host: files.example", NoNetwork, "files.example", ""},
		{"go: example.com/x@v1: module lookup disabled by GOPROXY=off", NoNetwork, "", ""},
		{"connect: Network is unreachable", NoNetwork, "", ""},
		{"install: cannot change ownership of '/build/stage/usr/bin/tide': Operation not permitted", ChangesOwner, "/build/stage/usr/bin/tide", ""},
		{"install: invalid user: ‘tide’", ChangesOwner, "tide", ""},
		{"make: *** No rule to make target 'install'.  Stop.", NoTarget, "install", ""},
		{"tide.c:3:1: error: expected ‘;’ before ‘}’ token\nmake: *** [Makefile:3: tide.o] Error 1", CompileError, "tide.c:3:1: error: expected ‘;’ before ‘}’ token", ""},
		{"cc1: all warnings being treated as errors", StrictWarnings, "", ""},
		{"make: ./bzip2: cannot execute binary file: Exec format error", ForeignCode, "./bzip2", ""},
		{"configure: error: \"libevent not found\"", MissingLibrary, "libevent", ""},
		{"configure: error: The GMP library is required", MissingLibrary, "GMP", ""},
		{"configure: error: cannot compute suffix of object files", "", "", ""},
		{"tide.xml:25: warning: failed to load external entity \"http://x.example/docbookx.dtd\"", NoNetwork, "http://x.example/docbookx.dtd", ""},
		{"write: No space left on device", DiskFull, "", ""},
		{"cc: fatal error: Killed signal terminated program cc1plus", MemoryFull, "", ""},
		{"sh: 0: Cannot fork", ProcessesFull, "", ""},
		{"CMake Error: Compatibility with CMake < 3.5 has been removed from CMake.", OldProject, "", ""},
		{"WARNING: 'aclocal-1.15' is missing on your system.", OldProject, "aclocal-1.15", ""},
		{"-- Could NOT find Doxygen (missing: DOXYGEN_EXECUTABLE)\nmake: *** [Makefile:3: all] Error 1", "", "", ""},
		{"checking whether the file system is a Read-only file system... no", "", "", ""},
		{"all is well", "", "", ""},
	} {
		got, err := Diagnose(strings.NewReader(c.log))
		if err != nil {
			t.Fatal(err)
		}
		if c.kind == "" {
			if len(got) > 0 {
				t.Errorf("%q: %+v", c.log, got[0])
			}
			continue
		}
		if len(got) == 0 || got[0].Kind != c.kind || got[0].What != c.what || got[0].Need != c.need || got[0].Message == "" || got[0].Remedy == "" || strings.Contains(got[0].Message, "%") {
			t.Errorf("%q: %+v", c.log, got)
		}
	}
}
