package scan

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/testtool"
)

// What a library exports is what nm lists of it.
func TestExported(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "map"), []byte("TIDE_1 { global: high; low; weak; table; local: *; }; TIDE_2 { global: ebb; };"), 0o644)
	lib := compile(t, `int high(void) { return 1; } int low(void) { return 2; } int ebb(void) { return 3; } int hidden(void) { return 4; }
__attribute__((weak)) int weak(void) { return 5; } int table[9]; extern int outside(void); int call(void) { return outside(); }`, filepath.Join(dir, "lib.so"),
		"-shared", "-fPIC", "-Wl,--version-script="+filepath.Join(dir, "map"))
	f, err := os.Open(lib)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	got, err := Exported(f)
	if err != nil || strings.Join(got, " ") != "ebb@TIDE_2 high@TIDE_1 low@TIDE_1 table@TIDE_1 weak@TIDE_1" {
		t.Errorf("%q, %v", got, err)
	}
	testtool.Find(t, "nm")
	out, err := exec.Command("nm", "-D", "--defined-only", lib).Output()
	if err != nil {
		t.Fatal(err)
	}
	var listed []string
	for line := range strings.Lines(string(out)) {
		if words := strings.Fields(line); len(words) == 3 && words[1] != "A" {
			listed = append(listed, strings.Replace(words[2], "@@", "@", 1))
		}
	}
	slices.Sort(listed)
	if !slices.Equal(got, listed) {
		t.Errorf("nm lists %q", listed)
	}
	if _, err := Exported(strings.NewReader("no library")); err == nil {
		t.Error("what is no library has symbols")
	}
}

func TestNewest(t *testing.T) {
	for _, c := range []struct{ all, want string }{
		{"GLIBC_2.4 GLIBC_2.34 GLIBC_2.17", "GLIBC_2.34"}, {"GLIBCXX_3.4.9 GLIBC_2.4 GLIBCXX_3.4.30", "GLIBCXX_3.4.30 GLIBC_2.4"}, {"PRIVATE", ""}, {"", ""},
	} {
		if got := strings.Join(Newest(strings.Fields(c.all)), " "); got != c.want {
			t.Errorf("%s: %q, want %q", c.all, got, c.want)
		}
	}
}
