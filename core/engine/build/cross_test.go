package build

import (
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/workspace"
)

// foreign is an architecture that is not this machine's.
func foreign() string {
	if runtime.GOARCH == "riscv64" {
		return "aarch64"
	}
	return "riscv64"
}

// A build for another architecture has the toolchain's programs in its environment, what it
// links with in a directory of its own, and no tests.
func TestCross(t *testing.T) {
	y := newFixture(t)
	arch := foreign()
	triplet := arch + "-linux-gnu"
	y.w.Settings.Targets = map[string]workspace.Target{"tide-7": {Arch: arch, Toolchain: triplet}}
	if err := y.w.UseTarget("tide-7"); err != nil {
		t.Fatal(err)
	}
	y.write("toolchain", `arch = "independent"
[steps]
test = "true"
stage = '''
mkdir -p "$DESTDIR/usr/bin"
printf '#!/bin/sh\necho "compiled: $*" >"$2"\n' >"$DESTDIR/usr/bin/`+triplet+`-gcc"
chmod 755 "$DESTDIR/usr/bin/`+triplet+`-gcc"
'''
`)
	y.write("libtide", `[steps]
test = "exit 1"
stage = '''
mkdir -p "$DESTDIR/usr/lib/pkgconfig"
printf 'prefix=/usr\nlibdir=${prefix}/lib\nName: tide\nDescription: Tides\nVersion: 1\nLibs: -L${libdir} -ltide\n' >"$DESTDIR/usr/lib/pkgconfig/tide.pc"
'''
`)
	y.write("tide", `[needs]
build = ["toolchain", "pkgconfig/tide"]
[steps]
build = '''
test "$ELL_HOST" = `+triplet+`
test "$(readlink "${PATH%%:*}/strip")" = /usr/bin/`+triplet+`-strip
case "$LDFLAGS" in *" -L/build/needs/usr/lib "*) ;; *) exit 2 ;; esac
case "$PKG_CONFIG_LIBDIR" in /build/needs/usr/lib/pkgconfig:*) ;; *) exit 3 ;; esac
test -z "${LD_LIBRARY_PATH:-}"
grep -q '^prefix=/build/needs/usr$' /build/needs/usr/lib/pkgconfig/tide.pc
grep -q `+triplet+`-gcc "$CMAKE_TOOLCHAIN_FILE"
grep -q "cpu_family = '`+arch+`'" "$HOME/cross.meson"
"$CC" -o tide
'''
test = "exit 1"
stage = 'install -D -m 644 tide "$DESTDIR/usr/share/tide"'
`)
	for name, tests := range map[string]bool{"toolchain": true, "libtide": false, "tide": false} {
		if name != "tide" {
			y.crossBuild(t, name, tests)
		}
	}
	res := y.crossBuild(t, "tide", false)
	p, err := ell.Open(res.Packages[0].Path)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	if p.Facts.Arch != arch {
		t.Errorf("the package is for %s", p.Facts.Arch)
	}
	out := t.TempDir()
	if _, err := p.Extract(t.Context(), out, ell.Extraction{}); err != nil {
		t.Fatal(err)
	}
	if text, _ := os.ReadFile(filepath.Join(out, "usr/share/tide")); !strings.Contains(string(text), "compiled: -o tide") {
		t.Errorf("it holds %q", text)
	}
	// Without a toolchain there is no such build, and the error says how there would be.
	y.w.On.Toolchain = ""
	if _, err := System(t.Context(), y.w, nil); err == nil || !strings.Contains(err.Error(), `toolchain = "`+triplet+`"`) {
		t.Errorf("without a toolchain: %v", err)
	}
}

func (y *fixture) crossBuild(t *testing.T, name string, tests bool) Result {
	t.Helper()
	res, err := y.build(name, Options{})
	if err != nil {
		t.Fatal(err)
	}
	ran := slices.ContainsFunc(res.Steps, func(s StepResult) bool { return s.Step == "test" && !s.Skipped })
	if ran != tests {
		t.Errorf("%s: the test step ran: %v", name, ran)
	}
	return res
}

// Commands are taken from packages that run here.
func TestRunnable(t *testing.T) {
	all := []*satisfy.Package{{Facts: ell.Facts{Name: "a", Arch: fact.Independent}}, {Facts: ell.Facts{Name: "b", Arch: foreign()}}}
	if got := runnable(all, true); len(got) != 1 || got[0].Facts.Name != "a" {
		t.Errorf("%v", got)
	}
	if got := runnable(all, false); len(got) != 2 {
		t.Errorf("%v", got)
	}
}
