package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

func TestReadZip(t *testing.T) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, e := range []struct {
		name, text string
		mode       fs.FileMode
	}{
		{"tide/", "", fs.ModeDir | 0o755}, {"tide/a b", "high", 0o755}, {"tide/link", "a b", fs.ModeSymlink | 0o777}, {"tide/pipe", "", fs.ModeNamedPipe | 0o644}, {"tide/empty", "", 0o600},
	} {
		h := &zip.FileHeader{Name: e.name}
		h.SetMode(e.mode)
		f, err := w.CreateHeader(h)
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(f, e.text)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	var got []string
	read := func(e Entry) error {
		text := e.Link
		if e.Contents != nil {
			data, err := io.ReadAll(e.Contents)
			if err != nil {
				return err
			}
			text = string(data)
		}
		got = append(got, fmt.Sprintf("%s %v %o %s", e.Name, e.Kind, e.Mode.Perm(), text))
		return nil
	}
	if err := ReadZip(t.Context(), bytes.NewReader(b.Bytes()), int64(b.Len()), read); err != nil {
		t.Fatal(err)
	}
	want := []string{fmt.Sprintf("tide/ %v 755 ", Directory), fmt.Sprintf("tide/a b %v 755 high", File), fmt.Sprintf("tide/link %v 777 a b", Symlink), fmt.Sprintf("tide/pipe %v 644 ", Other), fmt.Sprintf("tide/empty %v 600 ", File)}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant\n%q", got, want)
	}
	enough := errors.New("enough")
	if err := ReadZip(t.Context(), bytes.NewReader(b.Bytes()), int64(b.Len()), func(Entry) error { return enough }); !errors.Is(err, enough) {
		t.Errorf("a visitor that stops: %v", err)
	}
	stopped, cancel := context.WithCancel(t.Context())
	cancel()
	if err := ReadZip(stopped, bytes.NewReader(b.Bytes()), int64(b.Len()), read); !errors.Is(err, context.Canceled) {
		t.Errorf("after an interruption: %v", err)
	}
	for _, cut := range []int{0, 10, b.Len() / 2, b.Len() - 1} {
		if err := ReadZip(t.Context(), bytes.NewReader(b.Bytes()[:cut]), int64(cut), func(Entry) error { return nil }); err == nil {
			t.Errorf("%d of %d bytes are read", cut, b.Len())
		}
	}
}

// A stream is known by its first bytes, however it is called, and decompressed.
func TestDecompress(t *testing.T) {
	const text = "the tide at Saltmarsh comes twice a day\n"
	compress := map[Format]func(io.Writer) (io.WriteCloser, error){
		Gzip:      func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil },
		XZ:        func(w io.Writer) (io.WriteCloser, error) { return xz.NewWriter(w) },
		Zstandard: func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) },
	}
	for format, writer := range compress {
		var b bytes.Buffer
		w, err := writer(&b)
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, text)
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		if got := Detect(b.Bytes()[:min(HeadSize, b.Len())]); got != format {
			t.Errorf("%s is taken for %s", format, got)
		}
		plain, done, err := Decompress(bytes.NewReader(b.Bytes()))
		if err != nil {
			t.Fatal(format, err)
		}
		if got, err := io.ReadAll(plain); err != nil || string(got) != text {
			t.Errorf("%s: %q, %v", format, got, err)
		}
		done()
		// One that ends early is an error, and not a short text.
		plain, done, err = Decompress(bytes.NewReader(b.Bytes()[:b.Len()-9]))
		if err == nil {
			_, err = io.ReadAll(plain)
			done()
		}
		if err == nil {
			t.Errorf("%s: a stream that ends early is read", format)
		}
	}
	plain, done, err := Decompress(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	defer done()
	if got, err := io.ReadAll(plain); err != nil || string(got) != text {
		t.Errorf("plain: %q, %v", got, err)
	}
}

func TestDetect(t *testing.T) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	w.WriteHeader(&tar.Header{Name: "a", Size: 0, Mode: 0o644, Format: tar.FormatUSTAR})
	w.Close()
	old := slices.Clone(b.Bytes()[:HeadSize])
	copy(old[257:265], make([]byte, 8)) // a tar from before POSIX has no magic
	sum := 0
	copy(old[148:156], "        ")
	for _, c := range old {
		sum += int(c)
	}
	copy(old[148:156], fmt.Sprintf("%06o\x00 ", sum))
	for title, c := range map[string]struct {
		head []byte
		want Format
	}{
		"tar": {b.Bytes()[:HeadSize], Tar}, "an old tar": {old, Tar}, "zip": {[]byte("PK\x03\x04"), Zip}, "bzip2": {[]byte("BZh9"), Bzip2},
		"nothing": {nil, Plain}, "text": {[]byte("#!/bin/sh\n"), Plain}, "zeros": {make([]byte, HeadSize), Plain},
	} {
		if got := Detect(c.head); got != c.want {
			t.Errorf("%s is taken for %s", title, got)
		}
	}
}
