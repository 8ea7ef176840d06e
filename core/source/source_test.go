package source

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
)

// entry is a tar entry: a file unless kind says otherwise.
type entry struct {
	name, text string
	kind       byte
}

func tarOf(t testing.TB, entries ...entry) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, e := range entries {
		h := &tar.Header{Name: e.name, Typeflag: e.kind, Mode: 0o755, ModTime: time.Unix(1e9, 0)}
		switch e.kind {
		case 0:
			h.Typeflag, h.Size = tar.TypeReg, int64(len(e.text))
		case tar.TypeSymlink, tar.TypeLink:
			h.Linkname = e.text
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if h.Size > 0 {
			io.WriteString(w, e.text)
		}
	}
	w.Close()
	return b.Bytes()
}

func compressed(t testing.TB, kind string, data []byte) []byte {
	var b bytes.Buffer
	var w io.WriteCloser
	var err error
	switch kind {
	case "gzip":
		w = gzip.NewWriter(&b)
	case "xz":
		w, err = xz.NewWriter(&b)
	case "zstd":
		w, err = zstd.NewWriter(&b)
	}
	if err != nil {
		t.Fatal(err)
	}
	w.Write(data)
	w.Close()
	return b.Bytes()
}

func sum(data []byte) string {
	h := sha256.Sum256(data)
	return hex.EncodeToString(h[:])
}

// unpack puts data into a fresh tree and returns it with the result.
func unpack(t *testing.T, data []byte, job Job) (dir string, out Unpacked, err error) {
	t.Helper()
	base := t.TempDir()
	job.Path, dir = filepath.Join(base, "archive"), filepath.Join(base, "work")
	if job.Name == "" {
		job.Name = "archive"
	}
	if err := os.WriteFile(job.Path, data, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	out, err = Unpack(context.Background(), dir, job, progress.None)
	return dir, out, err
}

func tree(t *testing.T, dir string) string {
	t.Helper()
	var found []string
	filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err != nil {
			t.Fatal(err)
		}
		if !e.IsDir() {
			rel, _ := filepath.Rel(dir, p)
			found = append(found, rel)
		}
		return nil
	})
	return strings.Join(found, " ")
}

func TestUnpackFormats(t *testing.T) {
	plain := tarOf(t, entry{"tool-1.0/", "", tar.TypeDir}, entry{"tool-1.0/a file", "hello", 0}, entry{"tool-1.0/link", "a file", tar.TypeSymlink}, entry{"tool-1.0/hard", "tool-1.0/a file", tar.TypeLink})
	var z bytes.Buffer
	zw := zip.NewWriter(&z)
	f, _ := zw.Create("any name/a file")
	io.WriteString(f, "hello")
	zw.Close()
	bzip2ed, err := hex.DecodeString(bzip2Sample)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		data []byte
		want string
	}{
		"tar":  {plain, "a file hard link"},
		"gzip": {compressed(t, "gzip", plain), "a file hard link"},
		"xz":   {compressed(t, "xz", plain), "a file hard link"},
		"zstd": {compressed(t, "zstd", plain), "a file hard link"},
		"bz2":  {bzip2ed, "a"},
		"zip":  {z.Bytes(), "a file"},
		"file": {[]byte("no archive at all"), "archive"},
		"flat": {tarOf(t, entry{"a", "1", 0}, entry{"b/c", "2", 0}), "a b/c"},
	} {
		dir, _, err := unpack(t, c.data, Job{SHA256: sum(c.data)})
		if got := tree(t, dir); err != nil || got != c.want {
			t.Errorf("%s: %q, %v; want %q", name, got, err, c.want)
		}
	}
}

// bzip2Sample is a tar of tool-1.0/a as bzip2 has it; Go's library only reads
// the format.
const bzip2Sample = "425a6839314159265359d796c80f0000a2fb84c99000504003f780018062449e00000080082000750949a8c80d00d311a00aa453ca69e90064d0347a9aafe38f2ed55620638422214cb29e270a4966d39a488261daa54505284070d60840602129d820e88d15337dd2d275c6fd92b48d346b7cdf734d577267b59f1750bbf6fbb0441fc5dc914e142435e5b203c0"

func TestUnpackRefusals(t *testing.T) {
	good := tarOf(t, entry{"x/a", strings.Repeat("hello ", 5000), 0}, entry{"x/b", "b", 0})
	zipped := compressed(t, "gzip", good)
	for _, c := range []struct {
		name string
		data []byte
		job  Job
		want []string
	}{
		{"outside", tarOf(t, entry{"../evil", "x", 0}, entry{"/abs", "x", 0}, entry{"x/l", "../../etc/passwd", tar.TypeSymlink}, entry{"x/a", "/etc/passwd", tar.TypeSymlink},
			entry{"x/h", "../../x", tar.TypeLink}, entry{"x/dev", "", tar.TypeChar}, entry{"x/ok", "fine", 0}), Job{},
			[]string{`"../evil" leads out`, `"/abs" is an absolute path`, `"x/l" is a link that leads out, to "../../etc/passwd"`, `"x/a" is a link that leads out`, `"x/h" is a link that leads out`, `"x/dev" is a device`, "skip ="}},
		{"cut short", zipped[:len(zipped)/2], Job{}, []string{"ends too early", "fetch it again"}},
		{"cut in a header", good[:len(good)-1900], Job{}, []string{"ends too early"}},
		{"flipped", flip(zipped, len(zipped)-6), Job{}, []string{"damaged"}},
		{"other bytes", good, Job{SHA256: sum(nil)}, []string{"is not what the recipe pins", sum(nil), sum(good)}},
		{"too large", good, Job{Limits: Limits{Bytes: 1000, Entries: 10, Ratio: 10}}, []string{"made to fill the disk"}},
		{"too many", good, Job{Limits: Limits{Bytes: 1 << 20, Entries: 1, Ratio: 10}}, []string{"more than 1 entries"}},
		{"odd top", tarOf(t, entry{"tool-1.0/a", "x", 0}, entry{"extra.xml", "x", 0}), Job{Known: "tool"}, []string{`beside the directory "tool-1.0"`, "extra.xml", `skip = ["extra.xml"]`}},
		{"idle skip", good, Job{Skip: []string{"c"}}, []string{`skip "c" matches nothing`}},
	} {
		dir, _, err := unpack(t, c.data, c.job)
		for _, want := range c.want {
			if err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%s: %v\nwant %s", c.name, err, want)
			}
		}
		if left, _ := os.ReadDir(filepath.Dir(dir)); len(left) != 2 || tree(t, dir) != "" {
			t.Errorf("%s: left behind %v and %q", c.name, left, tree(t, dir))
		}
	}
}

func flip(data []byte, i int) []byte {
	out := bytes.Clone(data)
	out[i] ^= 0x10
	return out
}

func TestUnpackSkipAndMerge(t *testing.T) {
	dir, out, err := unpack(t, tarOf(t, entry{"x/a", "1", 0}, entry{"x/out", "/etc", tar.TypeSymlink}, entry{"x/t/1", "1", 0}, entry{"x/t/2", "2", 0}), Job{Skip: []string{"out", "t"}})
	if err != nil || tree(t, dir) != "a" || len(out.Skipped) != 3 || out.Dropped != "x" {
		t.Fatalf("%q, %+v, %v", tree(t, dir), out, err)
	}
	second := filepath.Join(t.TempDir(), "b.tar")
	os.WriteFile(second, tarOf(t, entry{"y/a", "1", 0}, entry{"y/b", "1", 0}), 0o644)
	if _, err := Unpack(context.Background(), dir, Job{Path: second, Name: "b.tar", Into: "sub/dir"}, progress.None); err != nil || tree(t, dir) != "a sub/dir/a sub/dir/b" {
		t.Errorf("into a directory: %q, %v", tree(t, dir), err)
	}
	if _, err := Unpack(context.Background(), dir, Job{Path: second, Name: "b.tar"}, progress.None); err == nil || !strings.Contains(err.Error(), "has these paths already:\n  a\n") {
		t.Errorf("a clash: %v", err)
	}
}

func FuzzUnpack(f *testing.F) {
	plain := tarOf(f, entry{"x/a", "hello", 0}, entry{"x/l", "a", tar.TypeSymlink}, entry{"x/l/../../y", "z", 0})
	for _, kind := range []string{"gzip", "xz", "zstd"} {
		f.Add(compressed(f, kind, plain))
	}
	f.Add(plain)
	base := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		dir, err := os.MkdirTemp(base, "")
		if err != nil {
			t.Fatal(err)
		}
		defer os.RemoveAll(dir)
		path := filepath.Join(dir, "archive")
		os.WriteFile(path, data, 0o644)
		work := filepath.Join(dir, "work")
		os.Mkdir(work, 0o755)
		Unpack(context.Background(), work, Job{Path: path, Name: "archive", Limits: Limits{Bytes: 1 << 20, Entries: 100, Ratio: 1000}}, progress.None)
		if left, _ := os.ReadDir(dir); len(left) != 2 {
			t.Errorf("something was written outside: %v", left)
		}
	})
}

// flaky serves a file, breaking off after a while until it has done so often
// enough.
type flaky struct {
	data   []byte
	breaks int
	ranges []string
	tag    string
}

func (f *flaky) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f.ranges = append(f.ranges, r.Header.Get("Range"))
	w.Header().Set("ETag", f.tag)
	if f.breaks > 0 {
		f.breaks--
		w.Header().Set("Content-Length", fmt.Sprint(len(f.data)))
		w.Write(f.data[:len(f.data)/2])
		w.(http.Flusher).Flush()
		panic(http.ErrAbortHandler)
	}
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(f.data))
}

func fetch(t *testing.T, store, address, digest string) (Fetched, error) {
	t.Helper()
	r, err := recipe.Parse("r", []byte(fmt.Sprintf("format=1\nname=\"x\"\nversion=\"1\"\nrelease=1\nsummary=\"x\"\nlicense=\"MIT\"\n[[source]]\nurl=%q\nsha256=%q\n", address, digest)), recipe.Target{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	f := NewFetcher(Cache{store}, progress.None)
	f.Pause, f.Stall = time.Millisecond, 200*time.Millisecond
	return f.Fetch(context.Background(), r, 0)
}

func TestDownload(t *testing.T) {
	data := bytes.Repeat([]byte("tide "), 100_000)
	server := &flaky{data: data, breaks: 2, tag: `"one"`}
	h := httptest.NewServer(server)
	defer h.Close()
	store := t.TempDir()
	got, err := fetch(t, store, h.URL+"/tide-1.tar", sum(data))
	if err != nil || !got.New || got.Size != int64(len(data)) || got.Name != "tide-1.tar" {
		t.Fatalf("%+v, %v", got, err)
	}
	if len(server.ranges) != 3 || server.ranges[0] != "" || !strings.HasPrefix(server.ranges[1], "bytes=") {
		t.Errorf("asked for ranges %q", server.ranges)
	}
	if got, err := fetch(t, store, h.URL+"/tide-1.tar", sum(data)); err != nil || got.New || len(server.ranges) != 3 {
		t.Errorf("again: %+v, %v after %d requests", got, err, len(server.ranges))
	}

	// A file that changed between two halves is begun again.
	store = t.TempDir()
	changing := &flaky{data: data, breaks: 1, tag: `"old"`}
	h2 := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if changing.breaks == 0 {
			changing.tag = `"new"`
		}
		changing.ServeHTTP(w, r)
	}))
	defer h2.Close()
	if got, err := fetch(t, store, h2.URL+"/x", sum(data)); err != nil || got.Size != int64(len(data)) {
		t.Errorf("changed under way: %+v, %v", got, err)
	}

	// A wrong digest keeps nothing.
	store = t.TempDir()
	_, err = fetch(t, store, h.URL+"/tide-1.tar", sum(nil))
	var wrong *DigestError
	if !errors.As(err, &wrong) || wrong.Found != sum(data) || wrong.Expected != sum(nil) {
		t.Errorf("wrong digest: %v", err)
	}
	if left := tree(t, store); strings.Contains(left, "sha256/") || strings.Contains(strings.ReplaceAll(left, ".lock", ""), ".json") {
		t.Errorf("wrong digest: kept %s", left)
	}
}

func TestDownloadFailures(t *testing.T) {
	silent := make(chan struct{})
	h := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/silent" {
			w.(http.Flusher).Flush()
			<-silent
			return
		}
		http.NotFound(w, r)
	}))
	defer h.Close()
	defer close(silent)
	for path, want := range map[string]string{"/gone": "the server answers 404 Not Found; check the address", "/silent": "less than 1024 bytes came in 200ms"} {
		if _, err := fetch(t, t.TempDir(), h.URL+path, sum(nil)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", path, err, want)
		}
	}
	if _, err := fetch(t, t.TempDir(), "file:///no/such/file", sum(nil)); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a missing file: %v", err)
	}
}

func TestStoreVerify(t *testing.T) {
	s := Cache{t.TempDir()}
	digest, err := s.Add(t.Context(), strings.NewReader("tide"), "x", "")
	if err != nil || s.Verify(t.Context(), digest) != nil {
		t.Fatal(err, s.Verify(t.Context(), digest))
	}
	os.WriteFile(s.Path(digest), []byte("ebb"), 0o644)
	if err := s.Verify(t.Context(), digest); err == nil || s.Has(digest) {
		t.Errorf("a changed file: %v, kept: %v", err, s.Has(digest))
	}
}
