package build

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"ellwand.example/core/engine/sandbox"
)

// Two builds of one recipe differ in what depends on when, where and by whom it is
// built, and in nothing else.
func TestTwice(t *testing.T) {
	y := newFixture(t)
	for _, c := range []struct{ title, stage, path, where, hint string }{
		{"the same", `echo tide > f`, "", "", ""},
		{"a date", `date -u -d "@$SOURCE_DATE_EPOCH" > f`, "", "", ""},
		{"a time of day", `printf 'a\nb\n%s\n' "$(date +%H:%M:%S.%N)" > f`, "/usr/share/tide/f", "line 3", "a time of day"},
		{"a directory", `pwd > f; echo "$ELL_JOBS" >/dev/null`, "", "", ""},
		{"a user", `printf '%s' "$(id -u)" > f`, "/usr/share/tide/f", "line 1", "number of the user"},
		{"a time zone", `date -d @0 +%H > f`, "/usr/share/tide/f", "line 1", ""},
	} {
		t.Run(c.title, func(t *testing.T) {
			y.t = t
			y.write("tide", "arch = \"independent\"\n[steps]\nstage = '''\nmkdir -p \"$DESTDIR/usr/share/tide\"\n"+strings.ReplaceAll(c.stage, "> f", "> \"$DESTDIR/usr/share/tide/f\"")+"\n'''\n")
			_, differences, err := y.b.Twice(t.Context(), y.recipes("tide")[0], Options{})
			if err != nil {
				t.Fatal(err)
			}
			if c.path == "" {
				if len(differences) > 0 {
					t.Errorf("%+v", differences)
				}
				return
			}
			if len(differences) != 1 || differences[0].Path != c.path || differences[0].Where != c.where || !strings.Contains(differences[0].Hint, c.hint) || differences[0].First == differences[0].Second {
				t.Errorf("%+v, want %s, %s", differences, c.path, c.where)
			}
		})
	}
	// Something of the first build alone, and another mode.
	y.write("tide", "arch = \"independent\"\n[steps]\nstage = '''\nd=\"$DESTDIR/usr/share/tide\"; mkdir -p \"$d\"; echo > \"$d/f\"\nif [ \"$(id -u)\" = "+strconv.Itoa(sandbox.StepID)+" ]; then echo > \"$d/only\"; chmod 600 \"$d/f\"; else echo > \"$d/other\"; fi\n'''\n")
	_, differences, err := y.b.Twice(t.Context(), y.recipes("tide")[0], Options{})
	var got []string
	for _, d := range differences {
		got = append(got, d.Path+" "+d.What)
	}
	if want := "/usr/share/tide/f mode; /usr/share/tide/only there after the first build only; /usr/share/tide/other there after the second build only"; err != nil || strings.Join(got, "; ") != want {
		t.Errorf("%q, %v, want %q", got, err, want)
	}
}

func TestDifferenceIn(t *testing.T) {
	program, err := os.ReadFile("/proc/self/exe")
	if err != nil {
		t.Fatal(err)
	}
	changed := append([]byte(nil), program...)
	at := strings.Index(string(program), "\x00runtime.main\x00")
	if at < 0 {
		at = len(program) / 2
	}
	changed[at+3] ^= 1
	for _, c := range []struct {
		title  string
		x, y   []byte
		offset int64
		where  string
	}{
		{"a line of text", []byte("a\nb\nc\n"), []byte("a\nb\nd\n"), 4, "line 3"},
		{"a longer one", []byte("a\n"), []byte("a\nb\n"), 2, "line 2"},
		{"an empty one", nil, []byte("x"), 0, "line 1"},
		{"bytes", []byte{0, 1, 2}, []byte{0, 1, 3}, 2, ""},
		{"a program", program, changed, int64(at + 3), "section "},
	} {
		d := differenceIn("tide", "/f", c.x, c.y)
		if d.Offset != c.offset || (c.where == "section ") != strings.HasPrefix(d.Where, "section ") || c.where != "section " && d.Where != c.where {
			t.Errorf("%s: %+v", c.title, d)
		}
	}
	if d := differenceIn("tide", "/f", []byte("\x1b[31mred\x07"), []byte("\x1b[32m")); strings.ContainsAny(d.First+d.Second, "\x1b\x07") {
		t.Errorf("control characters are shown: %+q %+q", d.First, d.Second)
	}
}

func TestSameBytes(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	a, b, c := file("a", "tide"), file("b", "tide"), file("c", "ebb")
	if same, err := sameBytes(a, b); err != nil || !same {
		t.Errorf("equal files: %v, %v", same, err)
	}
	if same, err := sameBytes(a, c); err != nil || same {
		t.Errorf("other files: %v, %v", same, err)
	}
	if _, err := sameBytes(a, filepath.Join(dir, "missing")); err == nil {
		t.Error("a missing file is compared")
	}
}
