package modules

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/fact"
)

// plant makes a tree of files.
func plant(t *testing.T, files map[string]string) *os.Root {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { root.Close() })
	return root
}

func zipOf(t *testing.T, files map[string]string) string {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		f, err := w.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		f.Write([]byte(files[name]))
	}
	w.Close()
	return b.String()
}

func tarOf(t *testing.T, name, text string) string {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	w.WriteHeader(&tar.Header{Name: name, Size: int64(len(text)), Mode: 0o644})
	w.Write([]byte(text))
	w.Close()
	z.Close()
	return b.String()
}

func TestLanguages(t *testing.T) {
	if got := slices.Sorted(maps.Keys(languages)); !slices.Equal(got, fact.ModuleLanguages) {
		t.Errorf("languages %q, and recipes may name %q", got, fact.ModuleLanguages)
	}
	for name, l := range languages {
		if l.Registry == nil || l.Online == nil || l.Offline == nil || (l.Download == "") != (name == fact.ModuleScript) || l.Name != name {
			t.Errorf("%s lacks something", name)
		}
		l.Registry(Registry)
		l.Online("/build/home")
		l.Offline("/build/home")
	}
}

const (
	aDigest = "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"
	bDigest = "bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb"
)

// What a lock file names may be downloaded, and nothing else that modules are made of.
func TestRules(t *testing.T) {
	for _, c := range []struct {
		language, lock string
		allowed        []Download
		refused        []Download
	}{
		{"go", "tide.example/Ebb v1.2.0 h1:x=\ntide.example/Ebb v1.2.0/go.mod h1:y=\ntide.example/flow/v2 v2.0.1/go.mod h1:z=\n",
			[]Download{{Path: "/tide.example/!ebb/@v/v1.2.0.zip"}, {Path: "/mirror/go/tide.example/!ebb/@v/v1.2.0.mod"}, {Path: "/tide.example/flow/v2/@v/v2.0.1.mod"}, {Path: "/tide.example/ebb", SHA256: aDigest}},
			[]Download{{Path: "/tide.example/!ebb/@v/v1.2.1.zip"}, {Path: "/tide.example/ebb/@v/v1.2.0.zip"}, {Path: "/tide.example/!ebb/@v/list"}, {Path: "/Tide/@v/v1.zip"}}},
		{"npm", `{"lockfileVersion": 3, "packages": {"": {}, "node_modules/ebb": {"version": "1.0.0", "integrity": "sha256-qqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqo= sha1-nope"}}}`,
			[]Download{{Path: "/ebb/-/ebb-1.0.0.tgz", SHA256: aDigest}, {Path: "/@tide/ebb", SHA256: bDigest}},
			[]Download{{Path: "/ebb/-/ebb-1.0.0.tgz", SHA256: bDigest}, {Path: "/ebb.tgz"}, {Path: "/a/b/tar.gz/main"}}},
		{"npm", `{"lockfileVersion": 1, "dependencies": {"ebb": {"version": "1.0.0", "dependencies": {"flow": {"version": "1", "integrity": "sha256-qqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqqo="}}}}}`,
			[]Download{{Path: "/flow/-/flow-1.tgz", SHA256: aDigest}}, []Download{{Path: "/ebb/-/ebb-1.0.0.tgz", SHA256: bDigest}}},
		{"cargo", "[[package]]\nname = \"ebb\"\nversion = \"1.0.0\"\nsource = \"registry+x\"\nchecksum = \"" + aDigest + "\"\n",
			[]Download{{Path: "/crates/ebb/1.0.0/download", SHA256: aDigest}, {Path: "/config.json", SHA256: bDigest}},
			[]Download{{Path: "/crates/ebb/1.0.0/download", SHA256: bDigest}, {Path: "/ebb-1.0.0.crate"}}},
		{"python", "ebb==1.0 --hash=sha256:" + aDigest + "\n",
			[]Download{{Path: "/packages/ebb-1.0.tar.gz", SHA256: aDigest}, {Path: "/simple/ebb/", SHA256: bDigest}},
			[]Download{{Path: "/packages/ebb-1.0.tar.gz", SHA256: bDigest}, {Path: "/ebb-1.0-py3-none-any.whl"}}},
		{"ruby", "GEM\n  specs:\n    ebb (1.0)\n      flow (>= 2)\n\nCHECKSUMS\n  ebb (1.0) sha256=" + aDigest + "\n",
			[]Download{{Path: "/gems/ebb-1.0.gem", SHA256: aDigest}, {Path: "/versions"}},
			[]Download{{Path: "/gems/ebb-1.0.gem", SHA256: bDigest}, {Path: "/gems/flow-2.0.gem", SHA256: aDigest}}},
		{"perl", "DISTRIBUTIONS\n  Ebb-1.0\n    pathname: T/TI/TIDE/Ebb-1.0.tar.gz\n",
			[]Download{{Path: "/authors/id/T/TI/TIDE/Ebb-1.0.tar.gz"}, {Path: "/modules/02packages.details.txt.gz"}},
			[]Download{{Path: "/authors/id/T/TI/TIDE/Ebb-1.1.tar.gz"}}},
		{"maven", "<project/>", []Download{{Path: "/any/thing.jar"}}, nil},
		{"script", "", []Download{{Path: "/any/thing"}}, nil},
	} {
		rule, err := Of(c.language).Rule([]byte(c.lock))
		if err != nil {
			t.Errorf("%s: %v", c.language, err)
			continue
		}
		for _, d := range c.allowed {
			if err := rule(d); err != nil {
				t.Errorf("%s: %s is refused: %v", c.language, d.Path, err)
			}
		}
		for _, d := range c.refused {
			if rule(d) == nil {
				t.Errorf("%s: %s is allowed", c.language, d.Path)
			}
		}
	}
	for language, lock := range map[string]string{"npm": `{"lockfileVersion": 1}`, "cargo": "[[", "python": "ebb==1.0\n"} {
		if _, err := Of(language).Rule([]byte(lock)); err == nil || fact.StatusOf(err) != fact.StatusInput {
			t.Errorf("%s: the lock file %q: %v", language, lock, err)
		}
	}
	if _, err := Of("npm").Rule([]byte("{")); err == nil {
		t.Error("a lock file of npm that is no JSON")
	}
}

func TestLocks(t *testing.T) {
	tree := plant(t, map[string]string{"work/go.sum": "x", "work/web/package-lock.json": "{}"})
	if name, data, err := Of("go").Lock(tree, "work"); name != "go.sum" || string(data) != "x" || err != nil {
		t.Errorf("%q, %q, %v", name, data, err)
	}
	if name, _, err := Of("npm").Lock(tree, "work/web"); name != "package-lock.json" || err != nil {
		t.Errorf("%q, %v", name, err)
	}
	if _, _, err := Of("npm").Lock(tree, "work"); err == nil || !strings.Contains(err.Error(), "npm install --package-lock-only") {
		t.Errorf("without a lock file: %v", err)
	}
	if _, _, err := Of("script").Lock(tree, "work"); err != nil {
		t.Error(err)
	}
	if err := tree.Symlink("go.sum", "work/Cargo.lock"); err != nil {
		t.Fatal(err)
	}
	if _, _, err := Of("cargo").Lock(tree, "work"); err == nil {
		t.Error("a link is no lock file")
	}
}

// What was kept is listed with versions, licenses and package URLs.
func TestLists(t *testing.T) {
	data, err := os.ReadFile("testdata/MIT")
	if err != nil {
		t.Fatal(err)
	}
	mit := string(data)
	for _, c := range []struct {
		language, lock string
		files          map[string]string
		want           []fact.Module
	}{
		{"go", "", map[string]string{
			goDownloads + "/tide.example/!ebb/@v/v1.2.0.zip":  zipOf(t, map[string]string{"tide.example/Ebb@v1.2.0/LICENSE": mit, "tide.example/Ebb@v1.2.0/a/LICENSE": "x"}),
			goDownloads + "/tide.example/!ebb/@v/v1.2.0.info": "{}",
			goDownloads + "/tide.example/flow/@v/v0.1.0.zip":  "no zip",
		}, []fact.Module{
			{Name: "tide.example/Ebb", Version: "v1.2.0", URL: "pkg:golang/tide.example/ebb@v1.2.0", License: "MIT"},
			{Name: "tide.example/flow", Version: "v0.1.0", URL: "pkg:golang/tide.example/flow@v0.1.0"},
		}},
		{"npm", `{"packages": {"": {}, "node_modules/ebb": {"version": "1.0.0"}, "node_modules/ebb/node_modules/@tide/flow": {"version": "2.0.0"}, "node_modules/elsewhere": {"version": "3.0.0"}, "../node_modules/out": {"version": "1"}}}`, map[string]string{
			"work/node_modules/ebb/package.json":                         `{"name": "ebb", "version": "1.0.0", "license": "ISC"}`,
			"work/node_modules/ebb/node_modules/@tide/flow/package.json": `{"version": "2.0.0", "license": {"type": "MIT"}}`,
		}, []fact.Module{
			{Name: "@tide/flow", Version: "2.0.0", URL: "pkg:npm/%40tide/flow@2.0.0", License: "MIT"},
			{Name: "ebb", Version: "1.0.0", URL: "pkg:npm/ebb@1.0.0", License: "ISC"},
		}},
		{"cargo", "[[package]]\nname = \"tide\"\nversion = \"1.0.0\"\n[[package]]\nname = \"ebb\"\nversion = \"1.0.0+sea\"\nsource = \"registry+x\"\n", map[string]string{
			"home/cargo/vendor/ebb-1.0.0+sea/Cargo.toml": "[package]\nlicense = \"MIT/Apache-2.0\"\n",
		}, []fact.Module{{Name: "ebb", Version: "1.0.0+sea", URL: "pkg:cargo/ebb@1.0.0%2Bsea", License: "MIT OR Apache-2.0"}}},
		{"python", "", map[string]string{
			"home/wheels/Ebb_tide-1.0-py3-none-any.whl": zipOf(t, map[string]string{"Ebb_tide-1.0.dist-info/METADATA": "Name: Ebb_tide\nVersion: 1.0\nLicense-Expression: MIT\n\nText\n"}),
			"home/wheels/flow-2.0.tar.gz":               tarOf(t, "flow-2.0/PKG-INFO", "Name: flow\nVersion: 2.0\nLicense: BSD\n"),
			"home/wheels/broken-1.0.zip":                "no zip",
		}, []fact.Module{
			{Name: "Ebb_tide", Version: "1.0", URL: "pkg:pypi/ebb-tide@1.0", License: "MIT"},
			{Name: "flow", Version: "2.0", URL: "pkg:pypi/flow@2.0", License: "BSD"},
		}},
		{"maven", "", map[string]string{
			"home/maven/org/tide/ebb/1.0/ebb-1.0.pom": "<project><licenses><license><name>MIT</name></license></licenses></project>",
			"home/maven/org/tide/ebb/1.0/ebb-1.0.jar": "x",
		}, []fact.Module{{Name: "org.tide:ebb", Version: "1.0", URL: "pkg:maven/org.tide/ebb@1.0", License: "MIT"}}},
		{"ruby", "GEM\n  specs:\n    ebb (1.0)\n    gone (2.0)\n", map[string]string{"work/vendor/cache/ebb-1.0.gem": "x"}, []fact.Module{{Name: "ebb", Version: "1.0", URL: "pkg:gem/ebb@1.0"}}},
		{"perl", "  Ebb-Tide-1.0\n    pathname: T/TI/TIDE/Ebb-Tide-1.0.tar.gz\n", map[string]string{"work/vendor/cache/authors/id/T/TI/TIDE/Ebb-Tide-1.0.tar.gz": "x"},
			[]fact.Module{{Name: "Ebb-Tide", Version: "1.0", URL: "pkg:cpan/TIDE/Ebb-Tide@1.0"}}},
		{"script", "", nil, []fact.Module{}},
	} {
		tree := plant(t, c.files)
		if err := Of(c.language).Finish(tree); err != nil {
			t.Errorf("%s: %v", c.language, err)
		}
		got, err := Of(c.language).List(tree, "work", []byte(c.lock))
		if err != nil || !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, %v\nwant %v", c.language, got, err, c.want)
		}
	}
}

// The same files give the same archive, which lists the modules first.
func TestArchive(t *testing.T) {
	all := []fact.Module{{Name: "ebb", Version: "1.0", URL: "pkg:npm/ebb@1.0"}}
	write := func() []byte {
		tree := plant(t, map[string]string{"home/go/a": "a", "home/other": "x", "work/b dir/b": "b"})
		tree.Symlink("b", "work/b dir/link")
		tree.Chmod("home/go/a", 0o700)
		var b bytes.Buffer
		if err := WriteArchive(t.Context(), &b, tree, Of("go"), []string{"work/b dir", "home/go", "home/none"}, all); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	first := write()
	if !bytes.Equal(first, write()) {
		t.Error("two archives of the same files differ")
	}
	var names []string
	for r := tar.NewReader(bytes.NewReader(first)); ; {
		h, err := r.Next()
		if err != nil {
			break
		}
		names = append(names, h.Name)
	}
	if want := []string{ListFile, "home/", "home/go/", "home/go/a", "work/", "work/b dir/", "work/b dir/b", "work/b dir/link"}; !slices.Equal(names, want) {
		t.Errorf("entries %q, want %q", names, want)
	}
	if got, err := ReadList(bytes.NewReader(first)); err != nil || !slices.Equal(got, all) {
		t.Errorf("%v, %v", got, err)
	}
	for _, other := range []string{"", "no archive", tarOf(t, ListFile, "{")} {
		if _, err := ReadList(strings.NewReader(other)); err == nil {
			t.Errorf("%.10q has a list", other)
		}
	}
	tree := plant(t, map[string]string{"work/a": ""})
	if err := os.Remove(filepath.Join(tree.Name(), "work/a")); err != nil {
		t.Fatal(err)
	}
	mkfifo(t, filepath.Join(tree.Name(), "work/pipe"))
	if err := WriteArchive(t.Context(), &bytes.Buffer{}, tree, Of("go"), []string{"work"}, nil); err == nil {
		t.Error("a pipe is in the archive")
	}
}

func FuzzLock(f *testing.F) {
	f.Add("go", []byte("a v1 h1:x=\n"))
	f.Add("npm", []byte(`{"packages": {"node_modules/a": {"version": "1", "integrity": "sha512-AA=="}}}`))
	f.Add("cargo", []byte("[[package]]\nname = \"a\"\nsource = \"x\"\nversion = \"../..\"\n"))
	f.Add("python", []byte("a --hash=sha256:"+aDigest))
	f.Add("ruby", []byte("    a (1)\n"))
	f.Add("perl", []byte("  pathname: A/AB/../../x-1.tar.gz\n"))
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, language string, lock []byte) {
		l, ok := languages[language]
		if !ok {
			return
		}
		root, err := os.OpenRoot(dir)
		if err != nil {
			t.Fatal(err)
		}
		defer root.Close()
		if rule, err := l.Rule(lock); err == nil {
			rule(Download{Path: "/a/@v/v1.zip"})
		}
		if _, err := l.List(root, "work", lock); err != nil && l.Name == "go" {
			t.Errorf("an empty tree: %v", err)
		}
	})
}
