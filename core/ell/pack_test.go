package ell

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"

	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/ell/seekable"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
	"ellwand.example/core/testtool"
)

var when = time.Date(2031, 4, 2, 0, 0, 0, 0, time.UTC)

// staged are files to stage: name → contents; "->x" is a link, "/" at the end a directory.
type staged map[string]string

func claims(t testing.TB, f staged) []staging.Claim {
	t.Helper()
	dir := t.TempDir()
	for name, text := range f {
		p := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(p), 0o755)
		switch target, link := strings.CutPrefix(text, "->"); {
		case strings.HasSuffix(name, "/"):
			os.MkdirAll(p, 0o755)
		case link:
			os.Symlink(target, p)
		default:
			if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	staged, err := staging.Walk(dir)
	if err != nil {
		t.Fatal(err)
	}
	var out []staging.Claim
	for _, p := range staged {
		out = append(out, staging.Claim{Path: p, Owner: "root", Group: "root"})
	}
	return out
}

func spec(c []staging.Claim) Spec {
	return Spec{
		Facts: Facts{Name: "tide", Version: "1.0", Release: 1, Arch: "independent", Target: "saltmarsh-7", Summary: "Tides", License: "MIT", Recipe: "tide", Date: "2031-04-02",
			Needs: []Need{{Need: need.Must("saltmarsh-stations >= 2031.1")}}, Accounts: map[string]fact.Account{"tide": {Home: "/var/lib/tide"}}},
		Claims: c, Scripts: map[string]string{"post-install": "true\n"}, Recipe: []byte("name = \"tide\"\n"), Time: when,
		Build: BuildRecord{Ellwand: "test", Isolation: "none"},
	}
}

func write(t testing.TB, s Spec) Written {
	t.Helper()
	w, err := Write(context.Background(), t.TempDir(), s, progress.None)
	if err == nil {
		err = w.Digest()
	}
	if err != nil {
		t.Fatal(err)
	}
	plain(t, w.Path)
	return w
}

// plain lists and unpacks a package with the system's own tar and zstd, if
// they are there: every package that these tests make.
func plain(t testing.TB, file string) {
	t.Helper()
	for _, tool := range []string{"tar", "zstd"} {
		if _, err := exec.LookPath(tool); err != nil {
			return
		}
	}
	if out, err := exec.Command("sh", "-c", `zstd -tq "$0" && tar --zstd -tf "$0" >/dev/null && tar --zstd -xf "$0" -C "$1"`, file, t.TempDir()).CombinedOutput(); err != nil {
		t.Errorf("a plain tar: %v\n%s", err, out)
	}
}

func open(t testing.TB, path string) *Package {
	t.Helper()
	p, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close() })
	return p
}

func entriesOf(t testing.TB, p *Package) []Entry {
	t.Helper()
	entries, err := p.Layout()
	if err != nil {
		t.Fatal(err)
	}
	return entries
}

// big is larger than a frame, and does not compress to nothing.
func big() string {
	b := make([]byte, FrameSize+FrameSize/2)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range b {
		b[i] = "tidewater"[r.IntN(9)]
	}
	return string(b)
}

func TestRoundTrip(t *testing.T) {
	large := big()
	c := claims(t, staged{"usr/bin/tide": "#!/bin/sh\n", "usr/share/a file": large, "usr/share/b": large[:100], "usr/share/link": "->a file", "var/empty/": "", "usr/share/none": ""})
	os.Link(c[2].Disk, filepath.Join(filepath.Dir(c[2].Disk), "tide2"))
	w := write(t, spec(c))
	if filepath.Base(w.Path) != "tide@1.0-1.ell" {
		t.Errorf("written to %s", w.Path)
	}
	p := open(t, w.Path)
	if err := p.Verify(context.Background()); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"/usr/share/a file": large, "/usr/share/b": large[:100], "/usr/share/none": ""} {
		e, ok := Find(entriesOf(t, p), path)
		var b bytes.Buffer
		if err := p.WriteFile(context.Background(), &b, e); !ok || err != nil || b.String() != want {
			t.Errorf("%s: %d bytes, want %d (%v)", path, b.Len(), len(want), err)
		}
	}
	dir := t.TempDir()
	if _, err := p.Extract(context.Background(), dir, Extraction{}); err != nil {
		t.Fatal(err)
	}
	if got, err := os.ReadFile(filepath.Join(dir, "usr/share/link")); err != nil || string(got) != large {
		t.Errorf("extracted through the link: %d bytes, %v", len(got), err)
	}
	if text, ok := p.Meta("scripts/post-install"); !ok || string(text) != "true\n" || p.Facts.Paths != len(c) || len(p.frames) < 5 {
		t.Errorf("script %q, %d paths, %d frames", text, p.Facts.Paths, len(p.frames))
	}
}

func TestHardLinks(t *testing.T) {
	c := claims(t, staged{"usr/bin/a": "tide"})
	dir := filepath.Dir(c[2].Disk)
	os.Link(c[2].Disk, filepath.Join(dir, "b"))
	staged, err := staging.Walk(filepath.Dir(filepath.Dir(dir)))
	if err != nil {
		t.Fatal(err)
	}
	var linked []staging.Claim
	for _, p := range staged {
		linked = append(linked, staging.Claim{Path: p, Owner: "root", Group: "root"})
	}
	p := open(t, write(t, spec(linked)).Path)
	b, _ := Find(entriesOf(t, p), "/usr/bin/b")
	out := t.TempDir()
	if _, err := p.Extract(context.Background(), out, Extraction{}); err != nil || b.Same != "/usr/bin/a" || p.Facts.Size != 4 {
		t.Fatalf("%v, %+v, %d bytes", err, b, p.Facts.Size)
	}
	x, _ := os.Stat(filepath.Join(out, "usr/bin/a"))
	y, _ := os.Stat(filepath.Join(out, "usr/bin/b"))
	if !os.SameFile(x, y) {
		t.Error("the two names are two files")
	}
}

// The same input gives the same bytes, wherever it lies and whoever wrote it.
func TestReproducible(t *testing.T) {
	f := staged{"usr/share/x": big(), "usr/bin/y": "y", "etc/z": "->x"}
	first := write(t, spec(claims(t, f)))
	again := claims(t, f)
	for _, c := range again {
		os.Chtimes(c.Disk, time.Now(), time.Unix(1, 0))
	}
	if second := write(t, spec(again)); second.SHA256 != first.SHA256 {
		t.Errorf("%s and %s", first.SHA256, second.SHA256)
	}
}

// Any tar that knows Zstandard reads a package.
func TestPlainTar(t *testing.T) {
	for _, tool := range []string{"tar", "zstd"} {
		testtool.Find(t, tool)
	}
	w := write(t, spec(claims(t, staged{"usr/share/x": big(), "usr/bin/ä b": "y"})))
	out, err := exec.Command("tar", "--zstd", "--quoting-style=literal", "-tvf", w.Path).CombinedOutput()
	for _, want := range []string{"meta/facts.json", "meta/layout.jsonl", "tree/usr/bin/ä b", "root/root", "2031-04-02"} {
		if err != nil || !strings.Contains(string(out), want) {
			t.Fatalf("tar: %v\n%s\nwant %s", err, out, want)
		}
	}
}

// A flipped bit is found, or changes nothing that is read: a larger window in a
// frame's header, or a match copied from another place with the same bytes.
// A file cut anywhere is found.
func TestDamage(t *testing.T) {
	w := write(t, spec(claims(t, staged{"usr/share/x": strings.Repeat("tide ", 3000), "usr/bin/y": "y"})))
	whole, err := os.ReadFile(w.Path)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "x.ell")
	read := ""
	check := func(data []byte) error {
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
		p, err := Open(path)
		if err != nil {
			return err
		}
		defer p.Close()
		entries, err := p.Layout()
		if err != nil {
			return err
		}
		read = fmt.Sprint(p.Facts, entries, p.Build, p.metas)
		return p.Verify(context.Background())
	}
	if err := check(whole); err != nil {
		t.Fatal(err)
	}
	sound := read
	var damaged *DamagedError
	for i := range whole {
		broken := bytes.Clone(whole)
		broken[i] ^= 1 << (i % 8)
		err := check(broken)
		if err == nil && read == sound {
			continue // the same contents, written in another way
		}
		if !errors.As(err, &damaged) {
			t.Fatalf("byte %d of %d flipped: %v", i, len(whole), err)
		}
	}
	for n := 0; n < len(whole); n += 7 {
		if err := check(whole[:n]); !errors.As(err, &damaged) {
			t.Fatalf("cut to %d of %d bytes: %v", n, len(whole), err)
		}
	}
	if err := check(append(bytes.Clone(whole), 0)); !errors.As(err, &damaged) {
		t.Errorf("a byte added: %v", err)
	}
}

// forge makes a package whose layout and payload say what they are told to.
func forge(t testing.TB, lines []string, payload func(*tar.Writer), facts func(*Facts)) string {
	t.Helper()
	s := spec(nil)
	enc, _ := newEncoder(fact.CompressionNormal)
	var entries []Entry
	for _, l := range lines {
		var e Entry
		if err := json.Unmarshal([]byte(l), &e); err != nil {
			t.Fatal(err)
		}
		entries = append(entries, e)
	}
	s.Facts.Format = Format
	var body bytes.Buffer
	tw := tar.NewWriter(&body)
	payload(tw)
	tw.Close()
	digests := []FrameDigest{{Contents: contentsDigest(body.Bytes()), SHA256: sha(enc.EncodeAll(body.Bytes(), nil))}}
	heads, err := metaFramesUnchecked(&s, entries, digests, facts)
	if err != nil {
		t.Fatal(err)
	}
	var all []byte
	var frames []seekable.Frame
	for _, part := range [][]byte{heads[0], heads[1], body.Bytes()} {
		packed := enc.EncodeAll(part, nil)
		frames = append(frames, seekable.Frame{Packed: uint32(len(packed)), Size: uint32(len(part))})
		all = append(all, packed...)
	}
	path := filepath.Join(t.TempDir(), "forged.ell")
	if err := os.WriteFile(path, append(all, seekable.Table(frames)...), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// metaFramesUnchecked writes the frames of metadata with a layout that the
// writer itself would refuse.
func metaFramesUnchecked(s *Spec, entries []Entry, digests []FrameDigest, facts func(*Facts)) (heads [2][]byte, err error) {
	var lines []byte
	for _, e := range entries {
		l, err := canonical.Marshal(e)
		if err != nil {
			return heads, err
		}
		lines = append(append(lines, l...), '\n')
	}
	list, err := canonical.Marshal(digests)
	if err != nil {
		return heads, err
	}
	metas := map[string][]byte{LayoutFile: lines, FramesFile: list, BuildFile: []byte("{}"), RecipeFile: nil}
	s.Facts.Paths, s.Facts.Meta = len(entries), map[string]string{}
	for _, e := range entries {
		if e.Same == "" {
			s.Facts.Size += e.Size
		}
	}
	for name, data := range metas {
		s.Facts.Meta[strings.TrimPrefix(name, "meta/")] = sha(data)
	}
	facts(&s.Facts)
	own, err := canonical.Marshal(s.Facts)
	if err != nil {
		return heads, err
	}
	delete(metas, LayoutFile)
	delete(metas, FramesFile)
	metas[PackageFile] = own
	if heads[0], err = metaFrame(metas, when); err == nil {
		heads[1], err = metaFrame(map[string][]byte{LayoutFile: lines, FramesFile: list}, when)
	}
	return heads, err
}

func sha(data []byte) string { return fmt.Sprintf("%x", sha256.Sum256(data)) }

// payloadOf writes one file.
func payloadOf(name, text string) func(*tar.Writer) {
	return func(w *tar.Writer) {
		w.WriteHeader(&tar.Header{Name: "tree/" + name, Size: int64(len(text)), Mode: 0o644, Uname: "root", Gname: "root"})
		io.WriteString(w, text)
	}
}

// Frames that claim more than they may, or hold more than they claim, cost no
// memory.
func TestExpansion(t *testing.T) {
	enc, _ := newEncoder(fact.CompressionNormal)
	bomb := enc.EncodeAll(make([]byte, maxFrame+1), nil)
	for name, c := range map[string]struct {
		frames []seekable.Frame
		data   []byte
		want   string
	}{
		"a frame above the limit": {[]seekable.Frame{{Packed: uint32(len(bomb)), Size: maxMeta + 1}}, bomb, "is the most that is read"},
		"more than is claimed":    {[]seekable.Frame{{Packed: uint32(len(bomb)), Size: 100}}, bomb, "not what the seek table says"},
		"a payload frame":         {[]seekable.Frame{{Packed: uint32(len(bomb)), Size: 100}, {}, {Size: maxFrame + 1}}, bomb, "is the most that is read"},
		"no frames":               {nil, nil, "its seek table is damaged"},
		"bytes between":           {[]seekable.Frame{{Packed: 3, Size: 100}}, bomb, "does not fit the file"},
	} {
		data := append(bytes.Clone(c.data), seekable.Table(c.frames)...)
		_, err := OpenAt(name, bytes.NewReader(data), int64(len(data)))
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %s", name, err, c.want)
		}
	}
}

// What a file system can hold, a package can: and gives it back.
func TestOddFiles(t *testing.T) {
	dir := t.TempDir()
	deep := "usr/share/" + strings.Repeat(strings.Repeat("d", 100)+"/", 5)
	os.MkdirAll(filepath.Join(dir, deep), 0o755)
	for _, name := range []string{"latin\xe9", "two\nlines", "a space", deep + "x", "-dash", "copy one", "copy two"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte("text of "+name[:2]), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	os.Symlink("latin\xe9", filepath.Join(dir, "link"))
	sparse := filepath.Join(dir, "sparse")
	os.WriteFile(sparse, []byte("start"), 0o600)
	os.Truncate(sparse, 64<<20)
	attribute := unix.Setxattr(sparse, "user.tide", []byte{0, 255}, 0) == nil
	capability := []byte("\x01\x00\x00\x02\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00") // net_bind_service, effective
	privileged := unix.Setxattr(filepath.Join(dir, "-dash"), staging.Capability, capability, 0) == nil
	staged, err := staging.Walk(dir)
	if err != nil {
		t.Fatal(err)
	}
	var c []staging.Claim
	for _, p := range staged {
		c = append(c, staging.Claim{Path: p, Owner: "root", Group: "root"})
	}
	slices.SortFunc(c, func(a, b staging.Claim) int { return strings.Compare(a.Path.Path, b.Path.Path) })
	w := write(t, spec(c))
	if w.Size > 20<<10 {
		t.Errorf("64 MiB of zeros take %d bytes", w.Size)
	}
	p := open(t, w.Path)
	for _, chosen := range [][]Entry{nil, entriesOf(t, p)} {
		out := t.TempDir()
		done, err := p.Extract(context.Background(), out, Extraction{Chosen: chosen})
		if err != nil {
			t.Fatal(err)
		}
		again, err := staging.Walk(out)
		if err != nil || len(again) != len(staged) {
			t.Fatalf("%d paths came out of %d: %v", len(again), len(staged), err)
		}
		for i, q := range again {
			q.Disk, q.Inode = staged[i].Disk, staged[i].Inode
			if len(done.Bare) == 0 && !reflect.DeepEqual(q, staged[i]) {
				t.Errorf("%+v came out as %+v", staged[i], q)
			}
		}
		if privileged && len(done.Bare) > 0 {
			t.Errorf("without attributes: %q", done.Bare)
		}
		var st unix.Stat_t
		if err := unix.Stat(filepath.Join(out, "sparse"), &st); err != nil || st.Blocks*512 > 1<<20 {
			t.Errorf("the file of zeros takes %d bytes", st.Blocks*512)
		}
		if text, _ := os.ReadFile(filepath.Join(out, "copy two")); string(text) != "text of co" {
			t.Errorf("the copy is %q", text)
		}
	}
	two, _ := Find(entriesOf(t, p), "/copy two")
	if two.Copy != "/copy one" || attribute && len(entriesOf(t, p)) == 0 {
		t.Errorf("%+v is no copy", two)
	}
}

// Each compression makes the same package of other bytes; what does not
// compress is stored.
func TestCompressions(t *testing.T) {
	noise := make([]byte, FrameSize+100)
	rand.NewChaCha8([32]byte{}).Read(noise)
	f := staged{"usr/share/text": big(), "usr/share/x/noise": string(noise)}
	var sizes []int64
	for _, c := range fact.Compressions {
		s := spec(claims(t, f))
		s.Compression = c
		w := write(t, s)
		if err := open(t, w.Path).Verify(context.Background()); err != nil {
			t.Errorf("%s: %v", c, err)
		}
		sizes = append(sizes, w.Size)
	}
	if sizes[0] <= sizes[3] || sizes[0] > int64(len(noise))+FrameSize {
		t.Errorf("sizes %d", sizes)
	}
	out, err := zstd.NewReader(bytes.NewReader(storedFrame(nil, noise)))
	if err != nil {
		t.Fatal(err)
	}
	if data, err := io.ReadAll(out); err != nil || !bytes.Equal(data, noise) {
		t.Errorf("a stored frame: %d bytes, %v", len(data), err)
	}
}

// hostileCase is a package that no reader may accept.
type hostileCase struct {
	lines   []string
	payload func(*tar.Writer)
	facts   func(*Facts)
	want    string // what the refusal says
}

func hostile() map[string]hostileCase {
	const digest = `"sha256":"2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881"` // of "x"
	file := func(path, more string) string {
		return fmt.Sprintf(`{"path":%q,"type":"file","mode":"0644","owner":"root","group":"root","size":1,%s%s}`, path, digest, more)
	}
	link := func(path, target string) string {
		return fmt.Sprintf(`{"path":%q,"type":"symlink","mode":"0777","owner":"root","group":"root","link":%q}`, path, target)
	}
	none := func(*tar.Writer) {}
	as := func(*Facts) {}
	return map[string]hostileCase{
		"too deep":               {[]string{file("/"+strings.Repeat("a/", 300)+"x", "")}, none, as, "directories deep"},
		"copy of nothing":        {[]string{file("/b", `,"copy":"/a"`)}, none, as, "is a copy of"},
		"copy with another mode": {[]string{file("/a", ""), strings.Replace(file("/b", `,"copy":"/a"`), "0644", "4755", 1)}, none, as, "is a copy of"},
		"an access list":         {[]string{file("/a", `,"xattrs":{"system.posix_acl_access":"AAAA"}`)}, none, as, "extended attribute"},
		"encoded without a need": {[]string{file("L2E=", `,"encoding":"base64"`)}, none, as, "need no encoding"},
		"link with a zero":       {[]string{strings.Replace(link("/a", "bc"), "bc", `b\u0000c`, 1)}, none, as, "has a target"},
		"behind the payload":     {[]string{file("/a", `,"at":99999999`)}, payloadOf("a", "x"), as, "begins at byte"},
		"facts: size":            {[]string{file("/a", "")}, none, func(f *Facts) { f.Size = 9 }, "facts.json says 9"},
		"facts: another file":    {nil, none, func(f *Facts) { f.Meta["more"] = sha(nil) }, "does not name each"},
		"payload other attribute": {[]string{file("/a", `,"at":512`)}, func(w *tar.Writer) {
			w.WriteHeader(&tar.Header{Name: "tree/a", Size: 1, Mode: 0o644, Uname: "root", Gname: "root", PAXRecords: map[string]string{xattrRecord + "user.x": "1"}})
			io.WriteString(w, "x")
		}, as, "owner, target or attributes"},
		"leads out":            {[]string{file("/../x", "")}, none, as, "not a clean absolute path"},
		"relative":             {[]string{file("x", "")}, none, as, "not a clean absolute path"},
		"long path":            {[]string{file("/"+strings.Repeat("a/", 3000)+"x", "")}, none, as, "not a clean absolute path"},
		"long name":            {[]string{file("/"+strings.Repeat("a", 300), "")}, none, as, "name of over 255 bytes"},
		"below a link":         {[]string{link("/a", "/etc"), file("/a/passwd", "")}, none, as, "is below"},
		"twice":                {[]string{file("/a", ""), file("/a", "")}, none, as, "contains a path twice"},
		"not sorted":           {[]string{file("/b", ""), file("/a", "")}, none, as, "not sorted"},
		"hard link to nothing": {[]string{file("/b", `,"same":"/a"`)}, none, as, "hard link"},
		"owner":                {[]string{strings.Replace(file("/b", ""), `"owner":"root"`, `"owner":"../root"`, 1)}, none, as, "not an account name"},
		"mode":                 {[]string{strings.Replace(file("/b", ""), "0644", "99", 1)}, none, as, "not four octal digits"},
		"payload missing":      {[]string{file("/a", "")}, none, as, "ends too early"},
		"payload other name": {[]string{file("/a", "")}, func(w *tar.Writer) {
			w.WriteHeader(&tar.Header{Name: "tree/../../etc/passwd", Size: 1, Mode: 0o644, Uname: "root", Gname: "root"})
			io.WriteString(w, "x")
		}, as, "is where the layout has"},
		"payload a device": {[]string{file("/a", "")}, func(w *tar.Writer) {
			w.WriteHeader(&tar.Header{Name: "tree/a", Typeflag: tar.TypeBlock, Mode: 0o644, Uname: "root", Gname: "root"})
		}, as, "is not of the type"},
		"payload other bytes": {[]string{file("/a", `,"at":512`)}, func(w *tar.Writer) {
			w.WriteHeader(&tar.Header{Name: "tree/a", Size: 1, Mode: 0o644, Uname: "root", Gname: "root"})
			io.WriteString(w, "y")
		}, as, "do not have the digest"},
		"payload more":  {nil, func(w *tar.Writer) { w.WriteHeader(&tar.Header{Name: "tree/a", Mode: 0o644}) }, as, "goes on after the last path"},
		"facts: choice": {nil, none, func(f *Facts) { f.Choices = []Choice{{Link: "/usr/bin/tide", Path: "../tide2"}} }, "cannot lead to"},
		"facts: two choices": {nil, none, func(f *Facts) {
			f.Choices = []Choice{{Link: "/usr/bin/tide", Path: "/usr/bin/tide1"}, {Link: "/usr/bin/tide", Path: "/usr/bin/tide2"}}
		}, "two for one"},
		"facts: refresher":  {nil, none, func(f *Facts) { f.Refresh = []Refresh{{Paths: []string{"/" + strings.Repeat("**/", 40)}, Run: "x"}} }, "not a pattern"},
		"facts: frame list": {[]string{file("/a", "")}, none, func(f *Facts) { f.Meta["frames.json"] = sha([]byte("[]")) }, "not the one that facts.json names"},
		"facts: name":       {nil, none, func(f *Facts) { f.Name = "../x" }, "cannot be a package's name"},
		"facts: arch":       {nil, none, func(f *Facts) { f.Arch = "a/b" }, "not a plain word"},
		"facts: need": {nil, none, func(f *Facts) {
			f.Needs = []Need{{Need: need.Need{Alternatives: []need.Alternative{{Kind: "what", Name: "x"}}}}}
		}, "is not a dependency"},
		"facts: no need":           {nil, none, func(f *Facts) { f.Needs = []Need{{Path: "/a"}} }, "is not a dependency"},
		"facts: no provide":        {nil, none, func(f *Facts) { f.Provides = []Provide{{Path: "/a"}} }, "cannot be provided"},
		"facts: no suggestion":     {nil, none, func(f *Facts) { f.Suggests = []need.Need{{}} }, "is not a dependency"},
		"facts: count":             {nil, none, func(f *Facts) { f.Paths = 1 << 40 }, "not possible"},
		"facts: format":            {nil, none, func(f *Facts) { f.Format = 9 }, "reads format 1"},
		"facts: long description":  {nil, none, func(f *Facts) { f.Description = strings.Repeat("x", MaxDescription+1) }, "is the most"},
		"facts: long summary":      {nil, none, func(f *Facts) { f.Summary = strings.Repeat("x", MaxLine+1) }, "is the most"},
		"facts: two line summary":  {nil, none, func(f *Facts) { f.Summary = "a\nb" }, "control characters"},
		"facts: escape in summary": {nil, none, func(f *Facts) { f.Summary = "\x1b]0;owned\a" }, "control characters"},
		"facts: escape in text":    {nil, none, func(f *Facts) { f.Description = "a\x1b[31mb" }, "control characters"},
		"facts: C1 in homepage":    {nil, none, func(f *Facts) { f.Homepage = "https://a.example/\u009b" }, "control characters"},
		"facts: license":           {nil, none, func(f *Facts) { f.License = strings.Repeat("MIT AND ", 300) + "MIT" }, "is the most"},
		"facts: provide":           {nil, none, func(f *Facts) { f.Provides = []Provide{{Provide: need.Provide{Kind: "what", Name: "x"}}} }, "cannot be provided"},
		"facts: long provide": {nil, none, func(f *Facts) {
			f.Provides = []Provide{{Provide: need.MustProvide("command/" + strings.Repeat("x", 5000))}}
		}, "is the most"},
		"facts: long symbol": {nil, none, func(f *Facts) {
			f.Needs = []Need{{Need: need.Must("soname/a.so"), Symbols: []string{strings.Repeat("x", 5000)}}}
		}, "is the most"},
		"facts: replaces": {nil, none, func(f *Facts) {
			f.Replaces = []need.Need{{Alternatives: []need.Alternative{{Kind: "what", Name: "x"}}}}
		}, "is not a dependency"},
		"facts: account":            {nil, none, func(f *Facts) { f.Accounts = map[string]fact.Account{"../x": {}} }, "cannot be an account's name"},
		"facts: home of an account": {nil, none, func(f *Facts) { f.Accounts = map[string]fact.Account{"x": {Home: "/\x1b"}} }, "control characters"},
		"facts: change":             {nil, none, func(f *Facts) { f.Changes = []fact.Change{{Version: "1", By: "\x07"}} }, "control characters"},
		"facts: long change":        {nil, none, func(f *Facts) { f.Changes = []fact.Change{{Text: []string{strings.Repeat("x", MaxDescription+1)}}} }, "has more than 65536 bytes"},
		"facts: version":            {nil, none, func(f *Facts) { f.Version = "1/../2" }, "cannot be a version"},
		"facts: digest":             {nil, none, func(f *Facts) { f.Meta["layout.jsonl"] = sha([]byte("?")) }, "is not the one that facts.json names"},
	}
}

func TestHostile(t *testing.T) {
	for name, c := range hostile() {
		if err := accept(forge(t, c.lines, c.payload, c.facts), t.TempDir()); !refused(err, c.want) {
			t.Errorf("%s: %v, want %s", name, err, c.want)
		}
	}
}

// accept opens a package and unpacks all of it.
func accept(path, dir string) error {
	p, err := Open(path)
	if err != nil {
		return err
	}
	defer p.Close()
	_, err = p.Extract(context.Background(), dir, Extraction{})
	return err
}

func refused(err error, want string) bool {
	var damaged *DamagedError
	return errors.As(err, &damaged) && strings.Contains(err.Error(), want)
}

var writeVectors = flag.Bool("vectors", false, "write the test vectors of docs/package-format.md anew")

// vectors is the directory of packages that every reader must accept or refuse.
const vectors = "../../docs/package-vectors"

// vector is a line of its index.
type vector struct {
	File    string  `json:"file"`
	About   string  `json:"about"`
	Refused string  `json:"refused,omitempty"` // a word of what is wrong with it
	Facts   *Facts  `json:"facts,omitempty"`
	Layout  []Entry `json:"layout,omitempty"`
}

// The test vectors hold: what other programs are told to accept and refuse,
// this one does.
func TestVectors(t *testing.T) {
	if *writeVectors {
		makeVectors(t)
	}
	data, err := os.ReadFile(filepath.Join(vectors, "index.json"))
	if err != nil {
		t.Fatal(err)
	}
	var all []vector
	if err := json.Unmarshal(data, &all); err != nil || len(all) < 50 {
		t.Fatalf("%d vectors, %v", len(all), err)
	}
	for _, v := range all {
		path := filepath.Join(vectors, v.File)
		dir := t.TempDir()
		err := accept(path, dir)
		if v.Refused != "" {
			if !refused(err, v.Refused) {
				t.Errorf("%s, %s: %v, want %s", v.File, v.About, err, v.Refused)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", v.File, err)
			continue
		}
		p := open(t, path)
		for i := range v.Layout {
			if err := v.Layout[i].decodeNames(); err != nil {
				t.Fatal(err)
			}
		}
		if entries := entriesOf(t, p); len(entries)+len(v.Layout) > 0 && !reflect.DeepEqual(entries, v.Layout) || !reflect.DeepEqual(&p.Facts, v.Facts) {
			t.Errorf("%s holds %+v, %+v", v.File, p.Facts, entriesOf(t, p))
		}
	}
}

func makeVectors(t *testing.T) {
	os.RemoveAll(vectors)
	for _, dir := range []string{"sound", "refused"} {
		os.MkdirAll(filepath.Join(vectors, dir), 0o755)
	}
	var all []vector
	add := func(kind, name, from string, v vector) {
		v.File = kind + "/" + strings.ReplaceAll(strings.ReplaceAll(name, ": ", "-"), " ", "-") + Extension
		data, err := os.ReadFile(from)
		if err == nil {
			err = os.WriteFile(filepath.Join(vectors, v.File), data, 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, v)
	}
	linked := claims(t, staged{"usr/a": "tide", "usr/b": "other"})
	os.Remove(linked[2].Disk)
	os.Link(linked[1].Disk, linked[2].Disk)
	linked[1].Inode, linked[2].Inode = staging.Inode{Dev: 1, Ino: 1}, staging.Inode{Dev: 1, Ino: 1}
	marked := claims(t, staged{"usr/a": "tide"})
	marked[1].Xattrs = map[string][]byte{staging.Capability: staging.CapabilityValue(1 << 10), "user.tide": {0, 255}}
	for _, c := range []struct {
		name, about string
		claims      []staging.Claim
	}{
		{"empty", "no path at all", nil},
		{"types", "a file, an empty file, an empty directory and a symbolic link", claims(t, staged{"usr/a": "tide", "usr/b": "", "usr/c/": "", "usr/d": "->a"})},
		{"hard link", "two names of one file", linked},
		{"copy", "two files with the same contents, which stand in the payload once", claims(t, staged{"usr/a": "tide", "usr/b": "tide"})},
		{"names", "names that are not UTF-8, with line ends, and long paths", claims(t, staged{"usr/latin\xe9": "x", "usr/two\nlines": "y", "usr/" + strings.Repeat(strings.Repeat("d", 90)+"/", 4) + "e": "z"})},
		{"attributes", "a capability, and an attribute of a user's", marked},
		{"frames", "a payload of two frames", claims(t, staged{"usr/zeros": strings.Repeat("\x00", FrameSize+1)})},
	} {
		w := write(t, spec(c.claims))
		p := open(t, w.Path)
		add("sound", c.name, w.Path, vector{About: c.about, Facts: &p.Facts, Layout: entriesOf(t, p)})
	}
	bad := hostile()
	for _, name := range slices.Sorted(maps.Keys(bad)) {
		c := bad[name]
		add("refused", name, forge(t, c.lines, c.payload, c.facts), vector{About: name, Refused: c.want})
	}
	cut := write(t, spec(claims(t, staged{"usr/a": "tide"})))
	os.Truncate(cut.Path, cut.Size-20)
	add("refused", "cut short", cut.Path, vector{About: "cut short", Refused: "seek table"})
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	if err := errors.Join(e.Encode(all), os.WriteFile(filepath.Join(vectors, "index.json"), b.Bytes(), 0o644)); err != nil {
		t.Fatal(err)
	}
}

func TestWriteFails(t *testing.T) {
	c := claims(t, staged{"usr/x": "x"})
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	dir := t.TempDir()
	if _, err := Write(ctx, dir, spec(c), progress.None); !errors.Is(err, context.Canceled) {
		t.Errorf("interrupted: %v", err)
	}
	c[1].Disk += "-gone"
	if _, err := Write(context.Background(), dir, spec(c), progress.None); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a file that is gone: %v", err)
	}
	if left, _ := os.ReadDir(dir); len(left) != 0 {
		t.Errorf("left behind: %v", left)
	}
}

func TestParseFileName(t *testing.T) {
	for name, want := range map[string]string{
		"tide@1.0-1.x86_64.ell": "tide 1.0-1 x86_64", "lib+a.b@2~rc1-10.ell": "lib+a.b 2~rc1-10 independent", "tide@1.0.ell": "", "tide@1.0.recipe.ell": "", "tide@1.0-1.recipe.ell": "", "tide-1.0-1.ell": "", "tide@1.0-1.tar": "",
	} {
		pkg, full, arch, ok := ParseFileName(name)
		if got := strings.TrimSpace(pkg + " " + full + " " + arch); ok != (want != "") || ok && got != want {
			t.Errorf("%s: %q, %v", name, got, ok)
		}
	}
}

func FuzzOpen(f *testing.F) {
	w := write(f, spec(claims(f, staged{"usr/x": "tide", "usr/l": "->x", "usr/d/": ""})))
	whole, _ := os.ReadFile(w.Path)
	f.Add(whole)
	f.Add(whole[:len(whole)-9])
	base := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		dir, err := os.MkdirTemp(base, "")
		if err != nil {
			t.Fatal(err)
		}
		defer os.RemoveAll(dir)
		path := filepath.Join(dir, "x.ell")
		os.WriteFile(path, data, 0o644)
		p, err := Open(path)
		if err != nil {
			return
		}
		defer p.Close()
		into := filepath.Join(dir, "into")
		os.Mkdir(into, 0o755)
		p.Extract(context.Background(), into, Extraction{Owners: true})
		if left, _ := os.ReadDir(dir); len(left) != 2 {
			t.Errorf("something was written outside: %v", left)
		}
	})
}

// FuzzMeta reads a first frame without compression around it, where a fuzzer
// gets further.
func FuzzMeta(f *testing.F) {
	s := spec(nil)
	heads, err := metaFramesUnchecked(&s, nil, []FrameDigest{}, func(f *Facts) { f.Format = Format })
	if err != nil {
		f.Fatal(err)
	}
	f.Add(heads[0])
	f.Fuzz(func(t *testing.T, data []byte) {
		p := &Package{}
		if p.readMeta(data) == nil && p.Facts.Name == "" {
			t.Errorf("accepted: %+v", p.Facts)
		}
	})
}

// FuzzLayout reads lines of a layout; what is accepted is written the same.
func FuzzLayout(f *testing.F) {
	for _, e := range []Entry{{Path: "/a", Type: staging.Directory, Mode: "0755", Owner: "root", Group: "root", Xattrs: map[string][]byte{"user.x": {0}}}, {Path: "/a\xff", Type: staging.Symlink, Link: "b", Mode: "0777", Owner: "root", Group: "root"}} {
		line, _ := canonical.Marshal(e)
		f.Add(append(line, '\n'))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		entries, err := ParseLayout(data, bytes.Count(data, []byte("\n")))
		if err != nil {
			return
		}
		for _, e := range entries {
			line, err := canonical.Marshal(e)
			if err != nil {
				t.Fatal(err)
			}
			again, err := ParseLayout(append(line, '\n'), 1)
			if e.Same+e.Copy == "" && (err != nil || !reflect.DeepEqual(again[0], e)) {
				t.Errorf("%+v became %+v: %v", e, again, err)
			}
		}
	})
}
