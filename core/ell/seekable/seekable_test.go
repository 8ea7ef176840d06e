package seekable

import (
	"bytes"
	"errors"
	"slices"
	"testing"
)

func TestTable(t *testing.T) {
	body := []byte("harbour and tide")
	frames := []Frame{{7, 100}, {0, 0}, {9, 1 << 31}}
	whole := append(bytes.Clone(body), Table(frames)...)
	if got, err := Read(bytes.NewReader(whole), int64(len(whole)), 3); err != nil || !slices.Equal(got, frames) {
		t.Errorf("%v, %v", got, err)
	}
	changed := func(at int, b byte) []byte {
		data := bytes.Clone(whole)
		data[len(data)-at] ^= b
		return data
	}
	for _, c := range []struct {
		title string
		data  []byte
		most  int
		want  error
	}{
		{"nothing", nil, 3, ErrNone},
		{"no table", body, 3, ErrNone},
		{"cut short", whole[:len(whole)-1], 3, ErrNone},
		{"too many frames", whole, 2, ErrDamaged},
		{"no frames", append(bytes.Clone(body), Table(nil)...), 3, ErrDamaged},
		{"more than the file", changed(8, 0xff), 1 << 30, ErrDamaged},
		{"with checksums", changed(5, 0x80), 3, ErrDamaged},
		{"another frame", changed(17, 1), 3, ErrMisfit},
		{"bytes before", append([]byte("x"), whole...), 3, ErrMisfit},
		{"bytes missing", whole[1:], 3, ErrMisfit},
		{"no skippable frame", changed(41, 1), 3, ErrMisfit},
	} {
		if _, err := Read(bytes.NewReader(c.data), int64(len(c.data)), c.most); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, not %v", c.title, err, c.want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(append([]byte("tide"), Table([]Frame{{4, 8}})...))
	f.Fuzz(func(t *testing.T, data []byte) {
		frames, err := Read(bytes.NewReader(data), int64(len(data)), 100)
		if err != nil {
			return
		}
		var sum int
		for _, frame := range frames {
			sum += int(frame.Packed)
		}
		if !bytes.HasSuffix(data, Table(frames)) || sum+len(Table(frames)) != len(data) {
			t.Errorf("%d bytes are read as %v", len(data), frames)
		}
	})
}
