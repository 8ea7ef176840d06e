package repo

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/ell/seekable"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
	"github.com/klauspost/compress/zstd"
)

func TestPartsOf(t *testing.T) {
	for _, c := range []struct{ packages, want int }{{0, 1}, {1, 1}, {32, 1}, {33, 2}, {64, 2}, {65, 4}, {195, 8}, {8192, 256}, {1 << 20, 256}} {
		if got := index.PartsOf(c.packages); got != c.want {
			t.Errorf("%d packages are in %d parts, not %d", c.packages, got, c.want)
		}
	}
}

// crowd is names that fall in one listing with another.
func crowd(name string, n int) (names []string) {
	for i := 0; len(names) < n; i++ {
		if other := fmt.Sprintf("crowd%d", i); index.ListingOf(other) == index.ListingOf(name) {
			names = append(names, other)
		}
	}
	return names
}

// held is what a channel holds for the target of samples: its packages and
// their paths, and the stored listing of a name.
func held(t testing.TB, r *Repository, name string) (content string, listing, files []byte) {
	t.Helper()
	p, err := r.Pointer(ctx)
	if err != nil {
		t.Fatal(err)
	}
	s, err := r.Snapshot(ctx, p.Channels["testing"]["t"])
	if err != nil {
		t.Fatal(err)
	}
	paths, err := eachListing(ctx, s.Files, nil, r.Paths)
	if err != nil {
		t.Fatal(err)
	}
	var list []string
	for _, p := range paths {
		list = append(list, p.Package+" "+p.Path)
	}
	slices.Sort(list)
	key := index.ListingOf(name)
	st := map[string][]byte{}
	for _, file := range []string{index.ListingFile(s.Listings[key]), index.FilesFile(s.Files[key])} {
		if st[file], err = os.ReadFile(filepath.Join(r.Storage.Where(), file)); err != nil {
			t.Fatal(err)
		}
	}
	return identities(t, r, "testing") + "\n" + strings.Join(list, "\n"), st[index.ListingFile(s.Listings[key])], st[index.FilesFile(s.Files[key])]
}

// However a listing grows and shrinks, in whichever steps, it holds what was put
// into it, and is the same bytes as one that was written at once.
func TestListingParts(t *testing.T) {
	d := rand.New(rand.NewPCG(1, 2))
	names := crowd("tide", 150)
	file := map[string]string{}
	dir := t.TempDir()
	for _, name := range names {
		file[name] = sample(t, dir, name+" 1-1; has /usr/share/common/"+name)
	}
	r := &Repository{Storage: storage.NewDirectory(filepath.Join(t.TempDir(), "r")), Cache: t.TempDir()}
	in := map[string]bool{}
	frames := map[int]bool{}
	for _, want := range []int{1, 20, 32, 33, 40, 70, 72, 71, 150, 149, 128, 60, 59, 30, 31} {
		var files, gone []string
		d.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
		for _, name := range names {
			switch {
			case len(in) < want && !in[name]:
				in[name] = true
				files = append(files, file[name])
			case len(in) > want && in[name]:
				delete(in, name)
				gone = append(gone, name)
			}
		}
		if len(files) > 0 {
			publish(t, r, "testing", files...)
		}
		if len(gone) > 0 {
			if _, err := r.Retire(ctx, "testing", gone, ChangeOptions{}, progress.None); err != nil {
				t.Fatal(err)
			}
		}
		got, listing, owned := held(t, r, "tide")
		other := Open(t.TempDir())
		files = nil
		for name := range in {
			files = append(files, file[name])
		}
		publish(t, other, "testing", files...)
		all, listing2, owned2 := held(t, other, "tide")
		if got != all || !bytes.Equal(listing, listing2) || !bytes.Equal(owned, owned2) {
			t.Fatalf("%d packages: it is not what is published at once", want)
		}
		found, err := seekable.Read(bytes.NewReader(listing), int64(len(listing)), index.MostParts)
		if n := index.PartsOf(want); n > 1 && (err != nil || len(found) != n) || n == 1 && err == nil {
			t.Errorf("%d packages are in %d frames, %v", want, len(found), err)
		}
		frames[max(1, len(found))] = true
	}
	if len(frames) != 4 {
		t.Errorf("only %v were tried", frames)
	}
}

// A change to a package copies the parts that it is not in.
func TestOtherPartsAreCopied(t *testing.T) {
	names := crowd("tide", 60)
	r := Open(t.TempDir())
	var words []string
	for _, name := range names {
		words = append(words, name+" 1-1")
	}
	publish(t, r, "testing", samples(t, words...)...)
	_, before, _ := held(t, r, "tide")
	publish(t, r, "testing", samples(t, names[0]+" 1-2")...)
	_, after, _ := held(t, r, "tide")
	was, is := index.FramesOf(before, 2), index.FramesOf(after, 2)
	_, part := index.PlaceOf(names[0], 2)
	if bytes.Equal(was[part].Data, is[part].Data) || !bytes.Equal(was[1-part].Data, is[1-part].Data) {
		t.Error("the other part is another one")
	}
}

// A large listing that somebody wrote in one frame is read and edited all the
// same; one whose packages are in the wrong parts is damaged.
func TestListingInAnotherWay(t *testing.T) {
	names := crowd("tide", 60)
	var words []string
	for _, name := range names {
		words = append(words, name+" 1-1")
	}
	for _, c := range []struct {
		title, damage string
		rewrite       func(parts []index.PackedPart, text []byte) []byte
	}{
		{"one frame", "", func(_ []index.PackedPart, text []byte) []byte {
			enc, _ := zstd.NewWriter(nil)
			return enc.EncodeAll(text, nil)
		}},
		{"parts exchanged", "is not where it belongs", func(parts []index.PackedPart, _ []byte) []byte {
			return slices.Concat(parts[1].Data, parts[0].Data, seekable.Table([]seekable.Frame{
				{Packed: uint32(len(parts[1].Data)), Size: parts[1].Size}, {Packed: uint32(len(parts[0].Data)), Size: parts[0].Size}}))
		}},
	} {
		r := Open(t.TempDir())
		publish(t, r, "testing", samples(t, words...)...)
		p, _ := r.Pointer(ctx)
		s, _ := r.Snapshot(ctx, p.Channels["testing"]["t"])
		_, listing, _ := held(t, r, "tide")
		dec, _ := zstd.NewReader(nil)
		text, err := dec.DecodeAll(listing, nil)
		if err != nil {
			t.Fatal(err)
		}
		put := func(name string, data []byte) {
			if err := r.Storage.Put(ctx, name, bytes.NewReader(data)); err != nil {
				t.Fatal(err)
			}
		}
		data := c.rewrite(index.FramesOf(listing, 2), text)
		ref := index.Ref{Count: 60, SHA256: fact.SHA256(data)}
		put(index.ListingFile(ref), data)
		s.Listings[index.ListingOf("tide")] = ref
		data, _ = s.Encode()
		put("snapshots/"+fact.SHA256(data)+".json", data)
		p.Channels["testing"]["t"] = fact.SHA256(data)
		data, _ = json.Marshal(p)
		put(storage.PointerFile, data)

		_, err = r.Publish(ctx, "testing", samples(t, names[0]+" 1-2"), ChangeOptions{}, progress.None)
		if c.damage != "" {
			if err == nil || !strings.Contains(err.Error(), c.damage) {
				t.Errorf("%s: %v", c.title, err)
			}
			continue
		}
		if err != nil {
			t.Fatalf("%s: %v", c.title, err)
		}
		if _, listing, _ := held(t, r, "tide"); index.FramesOf(listing, 2) == nil || len(strings.Fields(identities(t, r, "testing"))) != 61 {
			t.Errorf("%s: %s", c.title, identities(t, r, "testing"))
		}
	}
}

// Packages of a listing in parts go from channel to channel, and back.
func TestPartsBetweenChannels(t *testing.T) {
	names := crowd("tide", 70)
	var words []string
	for _, name := range names {
		words = append(words, name+" 1-1")
	}
	r := &Repository{Storage: storage.NewDirectory(filepath.Join(t.TempDir(), "r")), Cache: t.TempDir()}
	publish(t, r, "testing", samples(t, words...)...)
	has := func(title string, n int) {
		t.Helper()
		if got := len(strings.Fields(identities(t, r, "stable"))); got != n {
			t.Errorf("%s: stable has %d packages, not %d", title, got, n)
		}
	}
	if _, err := r.Promote(ctx, "testing", "stable", names[:40], ChangeOptions{}, progress.None); err != nil {
		t.Fatal(err)
	}
	has("some", 40)
	change, err := r.Promote(ctx, "testing", "stable", nil, ChangeOptions{}, progress.None)
	if err != nil || len(change.Targets[0].Added) != 30 {
		t.Fatalf("%+v, %v", change, err)
	}
	has("all", 70)
	if _, err := r.Rewind(ctx, "stable", "", progress.None); err != nil {
		t.Fatal(err)
	}
	has("as before", 40)
	p, _ := r.Pointer(ctx)
	stable, _ := r.Snapshot(ctx, p.Channels["stable"]["t"])
	testing, _ := r.Snapshot(ctx, p.Channels["testing"]["t"])
	if key := index.ListingOf("tide"); stable.Listings[key].Count != 40 || testing.Listings[key].Count != 70 || stable.Files[key].Count != 40 {
		t.Errorf("%+v and %+v", stable.Listings[key], testing.Listings[key])
	}
	if v, err := r.Verify(ctx, progress.None); err != nil || len(v.Damaged) > 0 {
		t.Errorf("%+v, %v", v, err)
	}
}
