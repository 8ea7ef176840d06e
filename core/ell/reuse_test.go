package ell

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
)

// manyFiles are some MiB of files that compress a little, with one large file
// among them.
func manyFiles(seed uint64) staged {
	r := rand.New(rand.NewPCG(seed, 2))
	text := func(n int) string {
		b := make([]byte, n)
		for i := 0; i < n; {
			for bits := r.Uint64(); bits != 0 && i < n; bits >>= 4 {
				b[i] = "tidewater saltma"[bits&15]
				i++
			}
		}
		return string(b)
	}
	out := staged{"usr/lib/large": text(5 << 20)}
	for i := range 60 {
		out[fmt.Sprintf("usr/share/d%02d/f%03d", i/3, i)] = text(r.IntN(80 << 10))
	}
	return out
}

// pack is write without a look by other programs.
func pack(t *testing.T, s Spec) Written {
	t.Helper()
	w, err := Write(t.Context(), t.TempDir(), s, progress.None)
	if err == nil {
		err = w.Digest()
	}
	if err != nil {
		t.Fatal(err)
	}
	return w
}

func frameSet(t *testing.T, p *Package) map[FrameDigest]bool {
	t.Helper()
	frames, err := p.Frames()
	if err != nil {
		t.Fatal(err)
	}
	set := map[FrameDigest]bool{}
	for _, f := range frames {
		set[f] = true
	}
	return set
}

// An edit changes the frames around it, and no others: of small files that
// change, grow, come and go, and of a large one in which bytes are inserted.
// So does a newer version of the package.
func TestFramesSurvive(t *testing.T) {
	first := spec(claims(t, manyFiles(1)))
	before := open(t, pack(t, first).Path)
	had := frameSet(t, before)
	if len(had) < 3 {
		t.Fatalf("%d frames", len(had))
	}
	for name, edit := range map[string]func(staged){
		"nothing":   func(staged) {},
		"one byte":  func(s staged) { s["usr/share/d10/f030"] += "x" },
		"a new one": func(s staged) { s["usr/share/d10/f0300"] = "new" },
		"one less":  func(s staged) { delete(s, "usr/share/d10/f031") },
		"inserted": func(s staged) {
			l := s["usr/lib/large"]
			s["usr/lib/large"] = l[:3<<20] + "inserted" + l[3<<20:]
		},
	} {
		t.Run(name, func(t *testing.T) {
			files := manyFiles(1)
			edit(files)
			next := spec(claims(t, files))
			next.Facts.Version, next.Facts.Date, next.Time = "1.1", "2031-05-02", when.Add(720*time.Hour)
			p := open(t, pack(t, next).Path)
			changed := 0
			for f := range frameSet(t, p) {
				if !had[f] {
					changed++
				}
			}
			if changed > 3 || changed == len(had) || name == "nothing" && changed > 0 {
				t.Errorf("%d of %d frames changed", changed, len(had))
			}
		})
	}
}

// A package that takes frames from an earlier one is the same to the byte as one
// that compresses all of its own.
func TestKnownFrames(t *testing.T) {
	old := pack(t, spec(claims(t, manyFiles(1))))
	files := manyFiles(1)
	files["usr/share/d03/f010"] += "edited"
	alone := pack(t, spec(claims(t, files)))
	damaged := filepath.Join(t.TempDir(), "damaged.ell")
	data, err := os.ReadFile(old.Path)
	if err != nil {
		t.Fatal(err)
	}
	p := open(t, old.Path)
	for i := metaFrameCount; i < len(p.frames); i++ {
		data[p.starts[i]+int64(p.frames[i].Packed)/2] ^= 1
	}
	if err := os.WriteFile(damaged, data, 0o644); err != nil {
		t.Fatal(err)
	}
	// A package that claims the digests of another's frames for its own.
	lying := forgedFrames(t, p)
	for name, c := range map[string]struct {
		file   string
		record BuildRecord
		reused bool
	}{
		"sound":               {old.Path, BuildRecord{Ellwand: "test", Isolation: "none"}, true},
		"of another Ellwand":  {old.Path, BuildRecord{Ellwand: "newer"}, false},
		"another compression": {old.Path, BuildRecord{Ellwand: "test", Compression: fact.CompressionFast}, false},
		"damaged":             {damaged, BuildRecord{Ellwand: "test"}, false},
		"lying":               {lying, BuildRecord{Ellwand: "test"}, false},
		"missing":             {old.Path + "-gone", BuildRecord{Ellwand: "test"}, false},
	} {
		t.Run(name, func(t *testing.T) {
			known, err := NewKnownFrames(c.record, c.file)
			if err != nil {
				t.Fatal(err)
			}
			defer known.Close()
			s := spec(claims(t, files))
			s.Known = known
			w := pack(t, s)
			if w.SHA256 != alone.SHA256 {
				t.Errorf("the package differs from one that was made alone")
			}
			if (known.Reused() >= 1) != c.reused || !c.reused && known.Reused() > 0 {
				t.Errorf("%d frames were reused", known.Reused())
			}
		})
	}
}

// forgedFrames makes a package whose frames have the digests and sizes of another's,
// and other contents.
func forgedFrames(t *testing.T, of *Package) string {
	t.Helper()
	s := spec(claims(t, manyFiles(9)))
	payload, err := Begin(t.Context(), t.TempDir(), s, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	defer payload.Close()
	digests, err := of.Frames()
	if err != nil {
		t.Fatal(err)
	}
	for i := range payload.digests {
		payload.digests[i] = digests[i%len(digests)]
		payload.frames[i].Size = of.frames[metaFrameCount+i%len(digests)].Size
	}
	w, err := payload.Finish(s.Facts)
	if err != nil {
		t.Fatal(err)
	}
	return w.Path
}

// Verify compares the frames with their list, which readers of single files do
// not need.
func TestFrameDigests(t *testing.T) {
	p, err := Open(forgedFrames(t, open(t, pack(t, spec(claims(t, manyFiles(1)))).Path)))
	if err == nil {
		defer p.Close()
		err = p.Verify(t.Context())
	}
	if err == nil {
		t.Error("frames of other digests were accepted")
	}
}

// An earlier version that is here saves most of a download.
func TestAssemble(t *testing.T) {
	old := pack(t, spec(claims(t, manyFiles(1))))
	files := manyFiles(1)
	files["usr/share/d03/f010"] += "edited"
	newer := pack(t, spec(claims(t, files)))
	want, err := os.ReadFile(newer.Path)
	if err != nil {
		t.Fatal(err)
	}
	var sent atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.ServeContent(&counting{w, &sent}, r, "", when, bytes.NewReader(want))
	}))
	defer server.Close()
	earlier := open(t, old.Path)
	for name, c := range map[string]struct {
		others []*Package
		most   int64 // of the bytes, in hundredths
	}{"with the earlier one": {[]*Package{earlier}, 80}, "alone": {nil, 101}, "with a liar": {[]*Package{open(t, forgedFrames(t, earlier))}, 101}} {
		sent.Store(0)
		p, err := OpenURL(t.Context(), server.URL, nil)
		if err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		fetched, err := p.Assemble(t.Context(), &b, c.others)
		p.Close()
		if err != nil || !bytes.Equal(b.Bytes(), want) || fetched*100 > c.most*int64(len(want)) || sent.Load()*100 > (c.most+5)*int64(len(want)) {
			t.Errorf("%s: %d bytes, %d fetched, %d sent, %v; there are %d", name, b.Len(), fetched, sent.Load(), err, len(want))
		}
	}
	if _, err := OpenParts(t.Context(), server.URL, int64(len(want))+1, nil); err == nil {
		t.Error("a file of another size was opened")
	}
	whole := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write(want) }))
	defer whole.Close()
	if _, err := OpenParts(t.Context(), whole.URL, int64(len(want)), nil); err == nil {
		t.Error("a server without parts was used")
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := earlier.Assemble(ctx, io.Discard, nil); err == nil {
		t.Error("it went on when it was canceled")
	}
}

// Where a large file is cut depends on the bytes just before, and not on how
// they arrive.
func FuzzRoll(f *testing.F) {
	f.Add([]byte("tide and ebb"), 3)
	f.Fuzz(func(t *testing.T, data []byte, split int) {
		h, n, cut := roll(0, data)
		split = min(max(split, 0), len(data))
		h1, n1, cut1 := roll(0, data[:split])
		if !cut1 {
			var n2 int
			h1, n2, cut1 = roll(h1, data[split:])
			n1 += n2
		}
		if h != h1 || n != n1 || cut != cut1 {
			t.Errorf("%d, %v; in two parts %d, %v", n, cut, n1, cut1)
		}
	})
}
