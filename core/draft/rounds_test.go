package draft

import (
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/engine/build"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/recipe"
	"ellwand.example/core/staging"
)

// What a failed step reports its causes changes the recipe, each thing once.
func TestLearn(t *testing.T) {
	failed := func(step string, causes ...build.Cause) error {
		return &build.StepError{Step: step, Ended: "failed", Causes: causes}
	}
	header := build.Cause{Kind: build.MissingHeader, What: "harmonic.h", Need: "header/harmonic.h", Message: "the header harmonic.h is missing"}
	for _, c := range []struct {
		title string
		facts Facts
		err   error
		want  []string // what is learned from the failure, and from the same again, and so on
		left  string   // configure | build needs | method | scripts
	}{
		{"a header that a need brings", Facts{Method: "make", Build: []string{"command/make"}}, failed(recipe.Build, header),
			[]string{"the build needs header/harmonic.h", ""}, " | command/make header/harmonic.h | make | "},
		{"a header that can be done without", Facts{Method: "autotools", Switches: []string{"--with-libharmonic=DIR  use it", "--enable-x"}}, failed(recipe.Prepare, header),
			[]string{"configure gets --without-libharmonic", "the build needs header/harmonic.h", ""}, "--without-libharmonic | header/harmonic.h | autotools | "},
		{"a feature that can be turned off", Facts{Method: "autotools", Switches: []string{"--enable-harmonic[=x]  use it"}}, failed(recipe.Prepare, header),
			[]string{"configure gets --disable-harmonic"}, "--disable-harmonic |  | autotools | "},
		{"scripts for python", Facts{Method: "make"}, failed(recipe.Build, build.Cause{Kind: build.MissingCommand, What: "python", Need: "command/python"}),
			[]string{"scripts for python run with python3", "the build needs command/python", ""}, " | command/python command/python3 | make | prepare: grep -rlIE"},
		{"what the tests need", Facts{Method: "make"}, failed(recipe.Test, build.Cause{Kind: build.MissingModule, What: "Tide", Need: "perl/Tide"}),
			[]string{"the tests need perl/Tide", "the tests are left out, with a comment"}, " |  | make | test: # The source's own tests fail"},
		{"an option that stops it", Facts{Method: "autotools", Switches: []string{"--enable-gui  the window"}},
			&build.StepError{Step: recipe.Prepare, Ended: "failed", Tail: []string{"configure: error: gui requested but not found"}},
			[]string{"configure gets --disable-gui", ""}, "--disable-gui |  | autotools | "},
		{"an option of tests that are not there", Facts{Method: "cmake", Switches: []string{"-DTIDE_TESTING=ON"}},
			&build.StepError{Step: recipe.Prepare, Ended: "failed", Tail: []string{"CMake Error at CMakeLists.txt:80 (add_library):", "  Cannot find source file:", "", "    tide/testing/ebb.cc"}},
			[]string{"configure gets -DTIDE_TESTING=OFF -DBUILD_TESTING=OFF", ""}, "-DTIDE_TESTING=OFF -DBUILD_TESTING=OFF |  | cmake | "},
		{"a manual that is not made here", Facts{Method: "autotools", Build: []string{"command/make", "command/makeinfo"}}, &satisfy.MissingError{},
			[]string{"the manual in the Info format is not made", ""}, "MAKEINFO=true | command/make | autotools | "},
		{"tests whose needs are not here", Facts{Method: "perl", Test: []string{"perl/Tide"}}, &satisfy.MissingError{},
			[]string{"the tests are left out, with a comment", ""}, " |  | perl | test: # The source's own tests need perl/Tide"},
		{"tests that fail", Facts{Method: "autotools"}, failed(recipe.Test),
			[]string{"the tests are left out, with a comment", ""}, " |  | autotools | test: # The source's own tests fail"},
		{"a few tests of CMake that fail", Facts{Method: "cmake"}, &build.StepError{Step: recipe.Test, Ended: "failed", Tests: []string{"tide.ebb", "flow"}},
			[]string{"these tests are left out: tide.ebb, flow", "the tests are left out, with a comment", ""}, " |  | cmake | test: # The source's own tests fail in a build (tide.ebb, flow);"},
		{"tests with odd names", Facts{Method: "cmake"}, &build.StepError{Step: recipe.Test, Ended: "failed", Tests: []string{"$(evil)"}},
			[]string{"the tests are left out, with a comment"}, " |  | cmake | test: # The source's own tests fail in a build ($(evil));"},
		{"a configure script without arguments", Facts{Method: "make", Steps: map[string]string{recipe.Prepare: ownConfigure}}, failed(recipe.Prepare),
			[]string{"the configure script gets no arguments", ""}, " |  | make | prepare: ./configure"},
		{"a directory of documentation", Facts{Method: "autotools"}, &build.StepError{Step: recipe.Build, Ended: "failed", Tail: []string{"make[2]: Leaving directory '/build/work/src'", "make[2]: *** No rule", "make[2]: Leaving directory '/build/work/doc'", "make[1]: Leaving directory '/build/work'"}},
			[]string{"the directory doc is left out", "the build step runs one process at a time", ""}, " |  | autotools | build: export MAKEFLAGS=-j1 # several processes at once do not build it prepare: test -x ./configure || autoreconf -fi"},
		{"a directory of the product", Facts{Method: "autotools", Steps: map[string]string{recipe.Build: "x"}}, &build.StepError{Step: recipe.Build, Ended: "failed", Causes: []build.Cause{{Kind: build.CompileError}}, Tail: []string{"make[2]: Leaving directory '/build/work/src'"}},
			[]string{""}, " |  | autotools | build: x"},
		{"several processes at once", Facts{Method: "make"}, failed(recipe.Build),
			[]string{"the build step runs one process at a time", ""}, " |  | make | build: export MAKEFLAGS=-j1"},
		{"warnings", Facts{Method: "make", Steps: map[string]string{recipe.Build: "cc x.c"}}, failed(recipe.Build, build.Cause{Kind: build.StrictWarnings}),
			[]string{"compiler warnings are no errors", ""}, " |  | make | build: cc x.c test: export CFLAGS=\"$CFLAGS -Wno-error"},
		{"an old project of one kind", Facts{Method: "cmake"}, failed(recipe.Prepare, build.Cause{Kind: build.OldProject, Remedy: "-DCMAKE_POLICY"}),
			[]string{"CMake takes it for a newer project", ""}, "-DCMAKE_POLICY_VERSION_MINIMUM=3.5 |  | cmake | "},
		{"an old project of another", Facts{Method: "autotools"}, failed(recipe.Prepare, build.Cause{Kind: build.OldProject}),
			[]string{"autoreconf regenerates the build files", ""}, " | command/autoreconf | autotools | prepare: autoreconf -fi"},
		{"what goes outside", Facts{Method: "make"}, failed(recipe.Stage, build.Cause{Kind: build.WritesOutside}),
			[]string{"the stage step moves the prefix, in place of $DESTDIR"}, " |  | make | stage: # The makefile knows of no $DESTDIR"},
		{"what went to an odd place", Facts{Method: "make"}, &strayError{path: "/home/tide"},
			[]string{"the stage step moves the prefix, in place of $DESTDIR"}, " |  | make | stage: # The makefile knows of no $DESTDIR"},
		{"needs that nobody meets", Facts{Method: "meson", others: []Facts{{Method: "cmake", Build: []string{"command/cmake"}}, {Method: "make"}}}, &satisfy.MissingError{},
			[]string{"method cmake in place of meson", "method make in place of cmake", ""}, " |  | make | "},
		{"a way that does not work", Facts{Method: "cmake", others: []Facts{{Method: "make"}}}, failed(recipe.Build, build.Cause{Kind: build.CompileError}),
			[]string{"method make in place of cmake", ""}, " |  | make | "},
		{"what nothing is learned from", Facts{Method: "make"}, errors.New("the disk burns"), []string{""}, " |  | make | "},
	} {
		if c.facts.Steps == nil {
			c.facts.Steps = map[string]string{}
		}
		trials := &Trials{Facts: &c.facts, tried: map[string]bool{}}
		for i, want := range c.want {
			if told, got := trials.learn(t.Context(), c.err); got != want || told == "" {
				t.Errorf("%s, round %d: %q of %q, not %q", c.title, i+1, got, told, want)
			}
		}
		var scripts []string
		for _, step := range slices.Sorted(maps.Keys(c.facts.Steps)) {
			first, _, _ := strings.Cut(c.facts.Steps[step], "\n")
			scripts = append(scripts, step+": "+first)
		}
		got := strings.Join([]string{strings.Join(c.facts.Configure, " "), strings.Join(c.facts.Build, " "), c.facts.Method, strings.Join(scripts, " ")}, " | ")
		if !strings.HasPrefix(got, c.left) || !strings.Contains(c.left, ":") && got != c.left {
			t.Errorf("%s:\n got %s\nwant %s", c.title, got, c.left)
		}
	}
}

// The layout follows from what was staged: what there is to build with, and much
// to read, are packages of their own.
func TestLayoutOfDraft(t *testing.T) {
	dir := t.TempDir()
	disk := map[string]string{"native": "\x7fELF\x02", "text": "#!/bin/sh\n", "archive": "!<arch>\n"}
	for name, text := range disk {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		title, staged string // path:content, or path:content:size
		arch          string
		packages      []string
		discard, err  string
	}{
		{"a program", "/usr/bin/tide:native", "", []string{"tide"}, "", ""},
		{"a script", "/usr/bin/tide:text /usr/share/doc/tide/a:text", "independent", []string{"tide"}, "", ""},
		{"a library with headers", "/usr/lib/libtide.so.1:native /usr/include/tide.h:text /usr/lib/libtide.la:text", "", []string{"tide", "tide-dev"}, "/usr/lib/libtide.la", ""},
		{"headers alone", "/usr/include/tide.h:text", "independent", []string{"tide"}, "", ""},
		{"an archive of objects", "/usr/lib/libtide.a:archive /usr/bin/tide:text", "", []string{"tide", "tide-dev"}, "", ""},
		{"modules with man pages", "/usr/share/perl5/Tide.pm:text /usr/share/man/man3/Tide.3pm:text", "independent", []string{"tide"}, "", ""},
		{"much to read", "/usr/bin/tide:native /usr/share/doc/tide/manual:text:300000", "", []string{"tide", "tide-doc"}, "", ""},
		{"something elsewhere", "/usr/bin/tide:native /home/ines/tide:text", "", nil, "", "/home/ines/tide was installed, outside"},
		{"nothing", "/usr/share/doc/tide/a:text", "", nil, "", "installed nothing"},
	} {
		var staged []staging.Path
		for _, word := range strings.Fields(c.staged) {
			parts := strings.Split(word, ":")
			p := staging.Path{Path: parts[0], Type: staging.File, Mode: 0o644, Disk: filepath.Join(dir, parts[1])}
			if len(parts) > 2 {
				p.Size = 300_000
			}
			staged = append(staged, p)
		}
		f := Facts{Name: "tide"}
		err := (&Trials{Facts: &f}).layout(staged)
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v", c.title, err)
			}
			continue
		}
		var packages []string
		for _, name := range []string{"tide", "tide-dev", "tide-doc"} {
			if strings.Contains(f.Layout, "[package."+name+".layout]") {
				packages = append(packages, name)
			}
		}
		if err != nil || f.Arch != c.arch || !slices.Equal(packages, c.packages) || strings.Join(f.Discard, " ") != c.discard {
			t.Errorf("%s: %v, arch %q, packages %v, discarded %v\n%s", c.title, err, f.Arch, packages, f.Discard, f.Layout)
		}
	}
}

func TestManualSection(t *testing.T) {
	for name, head := range map[string]string{"tide.1": "x\n.SH NAME", "man/tide.8": ".TH TIDE", "a.3": ".Dd x\n.Sh NAME"} {
		if got := manualSection(name, []byte(head)); got != name[len(name)-1:] {
			t.Errorf("%s is in section %q", name, got)
		}
	}
	for name, head := range map[string]string{"libtide.so.1": "\x7fELF", "tide.1": "text", "tide.9": ".TH TIDE", "tide": ".TH TIDE"} {
		if got := manualSection(name, []byte(head)); got != "" {
			t.Errorf("%s is in section %q", name, got)
		}
	}
}
