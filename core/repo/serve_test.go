package repo

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/repo/storage"
)

func TestServer(t *testing.T) {
	dir := t.TempDir()
	publish(t, Open(dir), "testing", samples(t, "tide 1-1")...)
	os.Symlink("/etc/hostname", filepath.Join(dir, "out"))
	os.WriteFile(filepath.Join(dir, "index.html"), []byte("<title>front</title>"), 0o644)
	s, err := NewServer(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	server := httptest.NewUnstartedServer(s)
	server.EnableHTTP2 = true
	server.StartTLS()
	defer server.Close()
	get := func(method, path string, headers ...string) (*http.Response, string) {
		t.Helper()
		req, err := http.NewRequest(method, server.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i < len(headers); i += 2 {
			req.Header.Set(headers[i], headers[i+1])
		}
		res, err := server.Client().Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return res, string(body)
	}
	pkg := "/packages/t/tide/tide@1-1.ell"
	data, _ := os.ReadFile(filepath.Join(dir, pkg))
	res, body := get("GET", pkg)
	if body != string(data) || res.ProtoMajor != 2 || !strings.Contains(res.Header.Get("Cache-Control"), "immutable") {
		t.Errorf("a package: %d bytes, %v", len(body), res)
	}
	tag := res.Header.Get("ETag")
	pointer, _ := get("GET", "/"+storage.PointerFile)
	if pointer.Header.Get("Cache-Control") != "no-cache" || pointer.Header.Get("Content-Type") != "application/json" {
		t.Errorf("the pointer: %v", pointer.Header)
	}
	listings, _ := filepath.Glob(filepath.Join(dir, "listings", "*"))
	listing := "/listings/" + filepath.Base(listings[0])
	for _, c := range []struct {
		title, method, path string
		headers             []string
		status              int
		body                string
	}{
		{"the front page", "GET", "/", nil, 200, "<title>front</title>"},
		{"a range", "GET", pkg, []string{"Range", "bytes=4-9", "If-Range", tag}, 206, string(data[4:10])},
		{"a range of something else", "GET", pkg, []string{"Range", "bytes=4-9", "If-Range", `"other"`}, 200, string(data)},
		{"a range past the end", "GET", pkg, []string{"Range", "bytes=99999999-"}, 416, ""},
		{"what is known already", "GET", pkg, []string{"If-None-Match", tag}, 304, ""},
		{"only the headers", "HEAD", listing, nil, 200, ""},
		{"what is not there", "GET", "/listings/none", nil, 404, "there is no such file here\n"},
		{"a directory", "GET", "/listings/", nil, 404, "there is no such file here\n"},
		{"what publishers have under way", "GET", "/.incoming/lock", nil, 404, "there is no such file here\n"},
		{"a link that leads out", "GET", "/out", nil, 404, "there is no such file here\n"},
		{"a path that leads out", "GET", "/listings/..%2f..%2fetc/hostname", nil, 404, "there is no such file here\n"},
		{"a change", "PUT", listing, nil, 405, "this server is only read from\n"},
	} {
		res, body := get(c.method, c.path, c.headers...)
		if res.StatusCode != c.status || c.status != 416 && body != c.body {
			t.Errorf("%s: %d %q, not %d", c.title, res.StatusCode, body, c.status)
		}
	}
	// The whole of it is a repository to readers.
	plain := httptest.NewServer(s)
	defer plain.Close()
	r, err := OpenAt(plain.URL, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	if got := identities(t, r, "testing"); got != "tide@1-1" {
		t.Errorf("through the server: %s", got)
	}
	if _, err := NewServer(t.TempDir()); err == nil {
		t.Error("a directory that is no repository is served")
	}
}
