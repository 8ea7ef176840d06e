package rewrite

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestApply(t *testing.T) {
	for _, c := range []struct {
		name  string
		rule  Rule
		count int
		a, b  string // what the two files then are; empty: as before
		want  string // of the error
	}{
		{"text", Rule{Path: "a.conf", Find: "port = 80\n", Replace: "port = $1\n", Times: 1}, 1, "port = $1\nhost = quay\n", "", ""},
		{"pattern, any number", Rule{Path: "**/*.conf", Find: "port", Replace: "PORT"}, 3, "PORT = 80\nhost = quay\n", "PORT PORT\n", ""},
		{"regular expression", Rule{Path: "a.conf", Regexp: `(?m)^(\w+) = (\w+)$`, Replace: "$2 is ${1}", Times: 2}, 2, "80 is port\nquay is host\n", "", ""},
		{"staged path", Rule{Path: "/a.conf", Find: "quay", Replace: "bar"}, 1, "port = 80\nhost = bar\n", "", ""},
		{"too many", Rule{Path: "**/*.conf", Find: "port", Replace: "x", Times: 2}, 3, "", "", "3 times, and should be there 2 times\n  a.conf:1: port = 80\n  sub/b.conf:1: port port"},
		{"none, but near", Rule{Path: "a.conf", Find: "port = 8", Replace: "x", Times: 2}, 1, "", "", "once, and should be there 2 times"},
		{"none", Rule{Path: "a.conf", Find: "prot = 80", Replace: "x"}, 0, "", "", "0 times, and should be there at least once\n  a.conf:1: port = 80"},
		{"no file", Rule{Path: "c.conf", Find: "x", Replace: "y"}, 0, "", "", "no file matches c.conf"},
		{"a link out", Rule{Path: "link", Find: "x", Replace: "y"}, 0, "", "", "no file matches link"},
	} {
		dir := t.TempDir()
		before := map[string]string{"a.conf": "port = 80\nhost = quay\n", "sub/b.conf": "port port\n"}
		os.Mkdir(filepath.Join(dir, "sub"), 0o755)
		for name, text := range before {
			os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755)
		}
		os.Symlink("/etc/hostname", filepath.Join(dir, "link"))
		root, err := os.OpenRoot(dir)
		if err != nil {
			t.Fatal(err)
		}
		n, err := Apply(root, c.rule)
		root.Close()
		var wrong *CountError
		if n != c.count || (err != nil) != (c.want != "") || c.want != "" && (!errors.As(err, &wrong) || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %d, %v; want %d, %s", c.name, n, err, c.count, c.want)
		}
		for name, want := range map[string]string{"a.conf": c.a, "sub/b.conf": c.b} {
			if want == "" {
				want = before[name]
			}
			got, _ := os.ReadFile(filepath.Join(dir, name))
			info, _ := os.Stat(filepath.Join(dir, name))
			if string(got) != want || info.Mode().Perm() != 0o755 {
				t.Errorf("%s: %s is %q (%s), want %q", c.name, name, got, info.Mode(), want)
			}
		}
	}
}
