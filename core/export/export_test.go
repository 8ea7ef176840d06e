package export

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
)

const text = "format = 1\nname = \"tide\"\nversion = \"1.0\"\nrelease = 1\nsummary = \"Tides\"\nlicense = \"MIT\"\n[[source]]\nurl = \"file://@\"\nsha256 = \"%\"\n[[source]]\nfile = \"beside me\"\n"

// made writes a recipe with a source, and exports it.
func made(t testing.TB) (r *recipe.Recipe, file string) {
	t.Helper()
	dir := t.TempDir()
	upstream := filepath.Join(dir, "tide.txt")
	os.WriteFile(upstream, []byte("ebb and flood"), 0o644)
	directory := filepath.Join(dir, "recipes/tide")
	os.MkdirAll(filepath.Join(directory, "patches"), 0o755)
	for name, data := range map[string]string{"beside me": "x", "patches/a.patch": "y", "old~": "editor's", "recipe.toml": strings.NewReplacer("@", upstream, "%", digest([]byte("ebb and flood"))).Replace(text)} {
		os.WriteFile(filepath.Join(directory, name), []byte(data), 0o644)
	}
	os.Chmod(filepath.Join(directory, "patches/a.patch"), 0o755)
	r, err := recipe.Load(directory, "recipe.toml", recipe.Target{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	f := source.NewFetcher(source.Cache{Dir: filepath.Join(dir, "store")}, progress.None)
	var sources []source.Fetched
	for i := range r.Sources {
		got, err := f.Fetch(context.Background(), r, i)
		if err != nil {
			t.Fatal(err)
		}
		sources = append(sources, got)
	}
	file = filepath.Join(dir, FileName(r))
	if _, err := Write(context.Background(), file, r, f.Cache, sources); err != nil {
		t.Fatal(err)
	}
	return r, file
}

func read(t testing.TB, data []byte, store source.Cache) (Content, error) {
	t.Helper()
	return Read(context.Background(), bytes.NewReader(data), store)
}

func TestThereAndBack(t *testing.T) {
	r, file := made(t)
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	store := source.Cache{Dir: t.TempDir()}
	c, err := read(t, data, store)
	if err != nil || c.Name != "tide" || c.Full != "1.0-1" || len(c.Sources) != 1 || !store.Has(r.Sources[0].SHA256) || len(c.Data) != 3 {
		t.Fatalf("%+v, %v", c.Manifest, err)
	}
	work := t.TempDir()
	dir, state := filepath.Join(work, "tide"), filepath.Join(work, "state/tide.json")
	if changed, err := c.Unpack(dir, state); err != nil || !changed {
		t.Fatal(changed, err)
	}
	if info, err := os.Stat(filepath.Join(dir, "patches/a.patch")); err != nil || info.Mode().Perm() != 0o755 {
		t.Errorf("a program beside the recipe: %v, %v", info, err)
	}
	if changed, err := c.Unpack(dir, state); err != nil || changed {
		t.Errorf("the second time: %v, %v", changed, err)
	}
	newer := c
	newer.Data, newer.Files = map[string][]byte{"recipe.toml": []byte("new")}, map[string]string{"recipe.toml": digest([]byte("new"))}
	if changed, err := newer.Unpack(dir, state); err != nil || !changed {
		t.Errorf("a newer export over what the last import left: %v, %v", changed, err)
	}
	os.WriteFile(filepath.Join(dir, "recipe.toml"), []byte("mine"), 0o644)
	var edited *EditedError
	if _, err := c.Unpack(dir, state); !errors.As(err, &edited) || strings.Join(edited.Changed, " ") != "beside me patches/a.patch recipe.toml" {
		t.Errorf("over edits: %v", err)
	}
	if mine, _ := os.ReadFile(filepath.Join(dir, "recipe.toml")); string(mine) != "mine" {
		t.Errorf("an edit is lost: %q", mine)
	}
	if left, _ := filepath.Glob(filepath.Join(work, ".unbundling-*")); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
}

// forge makes an exported recipe of any entries.
func forge(t testing.TB, entries ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	z, _ := zstd.NewWriter(&b)
	w := tar.NewWriter(z)
	for i := 0; i < len(entries); i += 2 {
		kind := byte(tar.TypeReg)
		name, link := entries[i], ""
		if before, target, ok := strings.Cut(name, " -> "); ok {
			kind, name, link = tar.TypeSymlink, before, target
		}
		w.WriteHeader(&tar.Header{Name: name, Linkname: link, Typeflag: kind, Mode: 0o644, Size: int64(len(entries[i+1]))})
		w.Write([]byte(entries[i+1]))
	}
	w.Close()
	z.Close()
	return b.Bytes()
}

func TestHostile(t *testing.T) {
	facts := func(files, sources string) string {
		return `{"files":{` + files + `},"format":1,"full":"1-1","name":"tide","sources":[` + sources + `]}`
	}
	x := digest([]byte("x"))
	whole := facts(`"recipe.toml":"`+x+`"`, "")
	for what, data := range map[string][]byte{
		"nothing":                    {},
		"no archive":                 []byte("no archive at all"),
		"begins with":                forge(t, "recipe/recipe.toml", "x"),
		"export.json":                forge(t, "export.json", "{"),
		"format 9":                   forge(t, "export.json", `{"format":9}`),
		"recipe's name":              forge(t, "export.json", `{"format":1,"name":"../x"}`),
		"is not a digest":            forge(t, "export.json", facts("", `{"name":"a","sha256":"../../x"}`)),
		"0 of 1 files":               forge(t, "export.json", whole),
		"does not match its digest":  forge(t, "export.json", whole, "recipe/recipe.toml", "y"),
		"recipe/other is not listed": forge(t, "export.json", whole, "recipe/other", "y"),
		"is not listed in export":    forge(t, "export.json", whole, "sources/"+x, "x"),
		`"../x" is not a regular`:    forge(t, "export.json", whole, "../x", "x"),
		`"/x" is not a regular`:      forge(t, "export.json", whole, "/x", "x"),
		`"recipe/a" is not a re`:     forge(t, "export.json", whole, "recipe/a -> /etc", ""),
		"source a is missing":        forge(t, "export.json", facts(`"recipe.toml":"`+x+`"`, `{"name":"a","sha256":"`+x+`"}`), "recipe/recipe.toml", "x"),
		"is not what the recipe pin": forge(t, "export.json", facts(`"recipe.toml":"`+x+`"`, `{"name":"a","sha256":"`+x+`"}`), "recipe/recipe.toml", "x", "sources/"+x, "y"),
	} {
		store := source.Cache{Dir: t.TempDir()}
		if _, err := read(t, data, store); err == nil || what != "nothing" && what != "no archive" && !strings.Contains(err.Error(), what) {
			t.Errorf("%s: %v", what, err)
		}
		if store.Has(x) {
			t.Errorf("%s: something came into the source cache", what)
		}
	}
	_, file := made(t)
	data, _ := os.ReadFile(file)
	for cut := 0; cut < len(data); cut += 13 {
		if _, err := read(t, data[:cut], source.Cache{Dir: t.TempDir()}); err == nil {
			t.Errorf("cut off at %d of %d bytes it reads as whole", cut, len(data))
		}
	}
}

func FuzzRead(f *testing.F) {
	_, file := made(f)
	data, err := os.ReadFile(file)
	if err != nil {
		f.Fatal(err)
	}
	z, _ := zstd.NewReader(nil)
	plain, err := z.DecodeAll(data, nil)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(plain)
	f.Add([]byte{})
	e, _ := zstd.NewWriter(nil)
	f.Fuzz(func(t *testing.T, plain []byte) {
		dir := t.TempDir()
		c, err := read(t, e.EncodeAll(plain, nil), source.Cache{Dir: filepath.Join(dir, "store")})
		if err != nil {
			return
		}
		if _, err := c.Unpack(filepath.Join(dir, "in/recipe"), filepath.Join(dir, "state")); err == nil {
			t.Error("a recipe was written where there is no directory")
		}
	})
}

// What an exported recipe claims about a commit is believed only as far as the commit's own
// object, and the archive, bear it out; and no part of a repository comes with
// a recipe.
func TestCommits(t *testing.T) {
	x := digest([]byte("x"))
	facts := func(object string) string {
		return `{"files":{"recipe.toml":"` + x + `"},"format":1,"full":"1-1","name":"tide","sources":[{"commit":"` + strings.Repeat("a", 40) + `","name":"a","object":"` + object + `","sha256":"` + x + `"}]}`
	}
	for what, data := range map[string][]byte{
		"not what the commit":      forge(t, "export.json", facts(""), "recipe/recipe.toml", "x", "sources/"+x, "x"),
		"it is not the commit":     forge(t, "export.json", facts("dHJlZQ=="), "recipe/recipe.toml", "x", "sources/"+x, "x"),
		"recipe/.git/config":       forge(t, "export.json", facts(""), "recipe/.git/config", "x"),
		"recipe/sub/.GIT/HEAD":     forge(t, "export.json", facts(""), "recipe/sub/.GIT/HEAD", "x"),
		`a part of a git reposito`: forge(t, "export.json", facts(""), "recipe/git~1/config", "x"),
	} {
		store := source.Cache{Dir: t.TempDir()}
		if _, err := read(t, data, store); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("%s: %v", what, err)
		}
		if known := store.CommitArchive(strings.Repeat("a", 40)); known.SHA256 != "" {
			t.Errorf("%s: the source cache takes %s for the commit's archive", what, known.SHA256)
		}
	}
}

// A commit's archive travels with its object, and is used without git.
func TestCommitTravels(t *testing.T) {
	dir := t.TempDir()
	up := filepath.Join(dir, "up")
	os.MkdirAll(up, 0o755)
	os.WriteFile(filepath.Join(up, "tide.txt"), []byte("ebb"), 0o644)
	git := func(args ...string) string {
		cmd := exec.Command("git", append([]string{"-C", up, "-c", "user.name=Ines", "-c", "user.email=ines@saltmarsh.example"}, args...)...)
		out, err := cmd.Output()
		if err != nil {
			t.Fatal(args, err)
		}
		return strings.TrimSpace(string(out))
	}
	git("init", "-q")
	git("add", ".")
	git("commit", "-q", "-m", "one")
	commit := git("rev-parse", "HEAD")
	directory := filepath.Join(dir, "recipes/tide")
	os.MkdirAll(filepath.Join(directory, ".git"), 0o755)
	os.WriteFile(filepath.Join(directory, ".git/config"), []byte("mine"), 0o644)
	os.WriteFile(filepath.Join(directory, "recipe.toml"), []byte("format = 1\nname = \"tide\"\nversion = \"1.0\"\nrelease = 1\nsummary = \"Tides\"\nlicense = \"MIT\"\n[[source]]\ngit = \"file://"+up+"\"\ncommit = \""+commit+"\"\n"), 0o644)
	r, err := recipe.Load(directory, "recipe.toml", recipe.Target{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	f := source.NewFetcher(source.Cache{Dir: filepath.Join(dir, "store")}, progress.None)
	got, err := f.Fetch(t.Context(), r, 0)
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "out")
	if _, err := Write(t.Context(), file, r, f.Cache, []source.Fetched{got}); err != nil {
		t.Fatal(err)
	}
	os.RemoveAll(up)
	data, _ := os.ReadFile(file)
	store := source.Cache{Dir: filepath.Join(dir, "elsewhere")}
	c, err := read(t, data, store)
	if err != nil || len(c.Data) != 1 {
		t.Fatalf("%v, %v", c.Data, err)
	}
	f = source.NewFetcher(store, progress.None)
	if again, err := f.Fetch(t.Context(), r, 0); err != nil || again.SHA256 != got.SHA256 || again.New {
		t.Errorf("%+v, %v", again, err)
	}
}
