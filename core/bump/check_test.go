package bump

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
)

const checkedHead = "format = 1\nname = \"tide\"\nversion = \"1.2.0\"\nrelease = 1\nsummary = \"Tides\"\nlicense = \"MIT\"\n"

func TestCheck(t *testing.T) {
	asked := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		switch r.URL.EscapedPath() {
		case "/files/":
			io.WriteString(w, `<a href="tide-1.1.0.tar.gz">x</a> <A HREF='/files/tide-1.10.0.tar.gz?download'>y</A> <a href=tide-1.3.0.tar.gz>z</a>
<a href="tide-2.0.0-rc1.tar.gz">r</a> <a href="tide-9.tar.gz.asc">s</a> <a href="other-3.tar.gz">o</a> <a href="tide-%zz.tar.gz">b</a> <a href="tide-1.3.0.tar.gz">z</a>`)
		case "/v/":
			io.WriteString(w, `<a href="../">up</a><a href="v1.2.0/">a</a><a href="v1.4.0/">b</a>`)
		case "/releases":
			io.WriteString(w, `<a href="/archive/release-20260401.zip">a</a>`)
		case "/npm/@salt%2ftide":
			io.WriteString(w, `{"versions": {"1.2.0": {}, "1.2.1": {}, "2.0.0-beta.1": {}}}`)
		case "/npm/broken":
			io.WriteString(w, `{`)
		case "/go/tide.example/!tide/@v/list":
			io.WriteString(w, "v1.2.0\nv1.5.0\nv1.6.0-pre\n")
		default:
			http.NotFound(w, r)
		}
	}))
	defer server.Close()
	repository := filepath.Join(t.TempDir(), "tide.git")
	if out, err := exec.Command("sh", "-ec", `git init -q "$0"; cd "$0"; git -c user.name=I -c user.email=i@x.example commit -q --allow-empty -m one
for tag in v1.2.0 v1.2.1 v1.3-rc1 release_1_4_0 nightly; do git tag $tag; done`, repository).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	c := &Checker{Registries: map[string]string{"npm": server.URL + "/npm/", "go": server.URL + "/go"}, Cache: filepath.Join(t.TempDir(), "kept"), Fresh: time.Hour}
	check := func(text string) (Checked, error) {
		t.Helper()
		text = strings.NewReplacer("SERVER", server.URL, "REPOSITORY", "file://"+repository).Replace(text)
		r, err := recipe.Parse("recipe.toml", []byte(checkedHead+text), recipe.Target{}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return c.Check(t.Context(), r)
	}
	for text, want := range map[string]string{
		"[[source]]\nurl = \"SERVER/files/tide-{version}.tar.gz\"\n":                                             "1.10.0 1.3.0",
		"[[source]]\nurl = \"SERVER/files/tide-1.2.0.tar.gz\"\n":                                                 "1.10.0 1.3.0",
		"[[source]]\nurl = \"SERVER/v/v{version}/tide-{version}.tar.gz\"\n":                                      "1.4.0",
		"[[source]]\ngit = \"REPOSITORY\"\ntag = \"v{version}\"\n":                                               "1.2.1",
		"[upstream]\ngit = \"REPOSITORY\"\n":                                                                     "1.2.1",
		"[upstream]\npage = \"SERVER/releases\"\nmatch = \"release-{version}.zip\"\n":                            "20260401",
		"[upstream]\npackage = \"pkg:npm/%40salt/tide\"\n[[source]]\nurl = \"SERVER/x-{version}.tgz\"\n":         "1.2.1",
		"[upstream]\npackage = \"pkg:golang/tide.example/Tide@v1.2.0\"\n[[source]]\nurl = \"SERVER/none.tgz\"\n": "1.5.0",
	} {
		got, err := check(text)
		newest, _, _ := strings.Cut(want, " ")
		if err != nil || strings.Join(got.Newer, " ") != want || got.Newest != newest || got.Place == "" {
			t.Errorf("%s: %+v, %v; want %s", text, got, err, want)
		}
	}
	for text, want := range map[string]string{
		"[[source]]\nurl = \"SERVER/latest.tgz\"\n": "not known where to ask",
		"": "not known where to ask",
		"[[source]]\nurl = \"SERVER/gone/x-{version}.tgz\"\n":        "404",
		"[upstream]\npackage = \"pkg:npm/broken\"\n":                 "no JSON",
		"[upstream]\npackage = \"pkg:golang/tide.example/none@x\"\n": "404",
		"[upstream]\ngit = \"REPOSITORY.none\"\n":                    "tide.git.none",
		"[upstream]\npackage = \"pkg:golang/tide.example/é\"\n":      "not the path of a module",
	} {
		if got, err := check(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %+v, %v; want %s", text, got, err, want)
		}
	}
	// An answer is kept for a while.
	before := asked
	if _, err := check("[[source]]\nurl = \"SERVER/files/tide-{version}.tar.gz\"\n"); err != nil || asked != before {
		t.Errorf("asked %d times more, %v", asked-before, err)
	}
	c.Fresh = 0
	if _, err := check("[[source]]\nurl = \"SERVER/files/tide-{version}.tar.gz\"\n"); err != nil || asked != before+1 {
		t.Errorf("asked %d times more, %v", asked-before, err)
	}
	c.Registries = nil
	if _, err := check("[upstream]\npackage = \"pkg:npm/x\"\n"); fact.StatusOf(err) != fact.StatusInput {
		t.Errorf("without a registry: %v", err)
	}
}

func TestMatching(t *testing.T) {
	for _, c := range []struct{ name, version, other, want string }{
		{"v1.2", "1.2", "v1.3", "1.3"},
		{"v1.2", "1.2", "1.3", ""},
		{"tide-1.2-1.2.tar", "1.2", "tide-1.3-1.3.tar", "1.3"},
		{"tide.1.2+x", "1.2", "tide.1.3+x", "1.3"},
		{"tide.1.2+x", "1.2", "tideX1.3+x", ""},
		{"latest", "1.2", "v4", "4"},
	} {
		got := ""
		if m := matching(c.name, c.version).FindStringSubmatch(c.other); m != nil {
			got = m[1]
		}
		if got != c.want {
			t.Errorf("%v: %q", c, got)
		}
	}
	for address, want := range map[string]string{
		"https://x.example/a/tide-1.2.tar.gz?x=1": "https://x.example/a/ tide-1.2.tar.gz true",
		"https://x.example/1.2":                   "https://x.example/ 1.2 true",
		"https://x.example/tide.tar.gz":           "  false",
	} {
		page, name, ok := listing(address, "1.2")
		if got := fmt.Sprint(page, " ", name, " ", ok); got != want {
			t.Errorf("%s: %s", address, got)
		}
	}
}
