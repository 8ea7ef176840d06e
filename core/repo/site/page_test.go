package site

import (
	"context"
	"encoding/json"
	"fmt"
	"html"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	nethtml "golang.org/x/net/html"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo"
	"ellwand.example/core/repo/gate"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/staging"
	"ellwand.example/core/testtool"
)

// published makes a repository with pages: packages, one of which does its
// worst to be shown badly.
func published(t *testing.T, packages int) string {
	t.Helper()
	dir, files := t.TempDir(), []string{}
	write := func(f ell.Facts, paths ...string) {
		f.Version, f.Release, f.Arch, f.Target, f.License, f.Recipe, f.Date = "1.0", 1, "independent", "saltmarsh-7", "MIT", f.Name, "2031-04-02"
		spec := ell.Spec{Facts: f, Time: time.Unix(1e9, 0)}
		for _, p := range paths {
			spec.Claims = append(spec.Claims, staging.Claim{Path: staging.Path{Path: p, Type: staging.File, Mode: 0o644, Disk: "page.go"}, Owner: "root", Group: "root"})
		}
		w, err := ell.Write(t.Context(), filepath.Join(dir, "packages"), spec, progress.None)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, w.Path)
	}
	write(ell.Facts{Name: "lib" + strings.Repeat("very-long-name-", 7) + "harmonic", Summary: "<img src=x onerror=alert(1)> & " + strings.Repeat("unbreakable", 20),
		Homepage: "javascript:alert(1)", Description: "First.\n\nSecond </p><script>alert(1)</script>.", Needs: []ell.Need{{Need: need.Must("tide")}, {Need: need.Must("soname/libc.so.6"), Path: "/usr/bin/x"}},
		Provides: []ell.Provide{{Provide: need.MustProvide("command/" + strings.Repeat("x", 120))}}, Changes: []fact.Change{{Version: "1.0-1", Date: "2031-04-02", By: "Ines <ines@saltmarsh.example>", Text: []string{"<b>bold</b>"}}}},
		"/usr/share/"+strings.Repeat("long-directory/", 15)+"file", "/usr/share/tide<script>")
	write(ell.Facts{Name: "tide", Summary: "Tides"}, "/usr/bin/tide")
	for i := range packages {
		write(ell.Facts{Name: fmt.Sprintf("%c%c-%d", 'a'+i%5, 'a'+i/5%6, i), Summary: "One of many"})
	}
	r := repo.Open(filepath.Join(dir, "repository"))
	r.Pages = Renderer{}
	half := len(files) * 3 / 4
	for _, set := range [][]string{files[:half], files[half:]} {
		if _, err := r.Publish(t.Context(), "testing", set, repo.ChangeOptions{}, progress.None); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := r.Promote(t.Context(), "testing", "stable", nil, repo.ChangeOptions{}, progress.None); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Retire(t.Context(), "testing", []string{"tide"}, repo.ChangeOptions{Allow: []index.Exception{{Code: gate.UnmetNeed, Package: strings.TrimSuffix(path.Base(files[0]), "@1.0-1.ell"), Reason: "it <is> so"}}}, progress.None); err != nil {
		t.Fatal(err)
	}
	return r.Storage.Where()
}

var (
	link = regexp.MustCompile(`(?:href|src)="([^"]*)"`)
)

// crawl reads all pages from the first one on, and returns their paths. Every
// link must lead somewhere.
func crawl(t *testing.T, server *httptest.Server) []string {
	t.Helper()
	seen, pages := map[string]bool{"/": true}, []string{}
	for queue := []string{"/"}; len(queue) > 0; queue = queue[1:] {
		address := queue[0]
		res, err := http.Get(server.URL + address)
		if err != nil {
			t.Fatal(err)
		}
		var b strings.Builder
		_, err = fmt.Fprint(&b, readAll(t, res))
		if err != nil || res.StatusCode != http.StatusOK {
			t.Errorf("%s: %s", address, res.Status)
			continue
		}
		if !strings.HasPrefix(res.Header.Get("Content-Type"), "text/html") {
			continue
		}
		pages = append(pages, address)
		body := b.String()
		if found := activeIn(t, body); found != "" {
			t.Errorf("%s: %s in the page", address, found)
		}
		base, _ := url.Parse(server.URL + address)
		for _, m := range link.FindAllStringSubmatch(body, -1) {
			to, err := base.Parse(html.UnescapeString(m[1]))
			if err != nil || to.Scheme != "http" {
				continue // to a homepage, or what is left of one that was none
			}
			if !seen[to.Path] {
				seen[to.Path] = true
				queue = append(queue, (&url.URL{Path: to.Path}).EscapedPath())
			}
		}
	}
	return pages
}

// activeIn parses a page as a browser does, and finds what would run or be
// fetched from elsewhere; empty for nothing. That texts of packages are in the
// page is no matter, as long as they are text.
func activeIn(t *testing.T, page string) string {
	t.Helper()
	root, err := nethtml.Parse(strings.NewReader(page))
	if err != nil {
		t.Fatal(err)
	}
	forbidden := map[string]bool{"script": true, "img": true, "iframe": true, "form": true, "object": true, "embed": true, "base": true, "svg": true, "style": true, "audio": true, "video": true}
	for n := range root.Descendants() {
		if n.Type != nethtml.ElementNode {
			continue
		}
		if forbidden[n.Data] {
			return "the element " + n.Data
		}
		for _, a := range n.Attr {
			scheme, _, ok := strings.Cut(strings.ToLower(strings.TrimSpace(a.Val)), ":")
			address := a.Key == "href" || a.Key == "src" || a.Key == "action"
			if strings.HasPrefix(a.Key, "on") || a.Key == "style" || address && ok && scheme != "https" && scheme != "http" {
				return fmt.Sprintf("the attribute %s=%q", a.Key, a.Val)
			}
		}
	}
	return ""
}

func TestActiveIn(t *testing.T) {
	for page, active := range map[string]bool{
		"<p>&lt;img src=x onerror=alert(1)&gt;</p>": false, "<a href='https://a.example/'>x</a>": false, "<a href='page.html'>x</a>": false,
		"<p><img src=x onerror=alert(1)></p>": true, "<script>x</script>": true, "<p onclick=x>": true, "<a href=' JavaScript:x'>x</a>": true, "<p style='x'>": true,
	} {
		if got := activeIn(t, page); (got != "") != active {
			t.Errorf("%s: %q", page, got)
		}
	}
}

func readAll(t *testing.T, res *http.Response) string {
	t.Helper()
	defer res.Body.Close()
	var b strings.Builder
	if err := res.Write(&b); err != nil {
		t.Fatal(err)
	}
	_, body, _ := strings.Cut(b.String(), "\r\n\r\n")
	return body
}

// TestPages reads every page of a small repository and of one with groups.
func TestPages(t *testing.T) {
	for packages, want := range map[int]int{3: 2 + 2*2 + 5, 450: 0} {
		dir := published(t, packages)
		s, err := repo.NewServer(dir)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		server := httptest.NewServer(s)
		defer server.Close()
		pages := crawl(t, server)
		if want > 0 && len(pages) != want {
			t.Errorf("%d pages, not %d: %q", len(pages), want, pages)
		}
		groups := 0
		for _, p := range pages {
			if strings.Contains(p, "/group-") {
				groups++
			}
		}
		if (packages > 400) != (groups > 20) || packages > 400 && len(pages) != 2+2*2+packages+2+groups {
			t.Errorf("%d packages: %d pages, %d of them groups", packages, len(pages), groups)
		}
		stable := readAll(t, must(http.Get(server.URL+"/pages/stable/saltmarsh-7/history.html")))
		testing := readAll(t, must(http.Get(server.URL+"/pages/testing/saltmarsh-7/history.html")))
		for text, in := range map[string]string{"promote": stable, "retire": testing, "it &lt;is&gt; so": testing, "tide<wbr>@1.0-1": testing} {
			if !strings.Contains(in, text) {
				t.Errorf("a history has no %q", text)
			}
		}
	}
}

func must(res *http.Response, err error) *http.Response {
	if err != nil {
		panic(err)
	}
	return res
}

// TestBrowser looks at every kind of page in a browser: on a phone and on a
// desk nothing is wider than the window, the text can be read, and nothing that
// a package says becomes part of the page.
func TestBrowser(t *testing.T) {
	browser := testtool.Find(t, "chromium")
	s, err := repo.NewServer(published(t, 450))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	mux := http.NewServeMux()
	mux.Handle("/", s)
	server := httptest.NewServer(mux)
	defer server.Close()
	var kinds []string
	seen := map[string]bool{}
	for _, p := range crawl(t, server) {
		kind := regexp.MustCompile(`^/(packages/.*harmonic@|packages/.*tide@|pages/stable/.*/(group-li|index|history)|$)`).FindString(p)
		if kind != "" && !seen[kind] {
			seen[kind] = true
			kinds = append(kinds, p)
		}
	}
	if len(kinds) < 6 {
		t.Fatalf("only %q", kinds)
	}
	list, _ := json.Marshal(kinds)
	mux.HandleFunc("/look", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<body><pre id="result"></pre><script>
const pages = %s, results = [];
let left = 0;
for (const page of pages) for (const width of [360, 390, 1280]) {
  left++;
  const frame = document.createElement("iframe");
  frame.width = width; frame.height = 800; frame.src = page;
  frame.onload = () => {
    const d = frame.contentDocument, all = [...d.body.querySelectorAll("*")];
    const smallest = Math.min(...all.filter(e => e.textContent.trim()).map(e => parseFloat(getComputedStyle(e).fontSize)));
    results.push({page, width, wide: d.documentElement.scrollWidth, styled: getComputedStyle(d.body).maxWidth !== "none", smallest,
      foreign: d.querySelectorAll("img,script,form,iframe").length, headings: d.querySelectorAll("h1").length});
    if (--left === 0) document.getElementById("result").textContent = JSON.stringify(results);
  };
  document.body.append(frame);
}
</script></body>`, list)
	})
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, browser, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync",
		"--user-data-dir="+t.TempDir(), "--virtual-time-budget=20000", "--dump-dom", server.URL+"/look")
	cmd.Env = append(os.Environ(), "HOME="+t.TempDir())
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	m := regexp.MustCompile(`(?s)<pre id="result">(.+?)</pre>`).FindSubmatch(out)
	if m == nil {
		t.Fatalf("the browser shows nothing:\n%.2000s", out)
	}
	var results []struct {
		Page                           string
		Width, Wide, Foreign, Headings int
		Styled                         bool
		Smallest                       float64
	}
	if err := json.Unmarshal([]byte(html.UnescapeString(string(m[1]))), &results); err != nil {
		t.Fatal(err)
	}
	if len(results) != 3*len(kinds) {
		t.Errorf("%d results for %d pages", len(results), len(kinds))
	}
	for _, r := range results {
		if r.Wide > r.Width || !r.Styled || r.Foreign > 0 || r.Headings != 1 || r.Smallest < 12 {
			t.Errorf("%+v", r)
		}
	}
}
