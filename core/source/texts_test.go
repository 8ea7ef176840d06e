package source

import (
	"archive/tar"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
)

// archived makes a compressed archive of files.
func archived(t *testing.T, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for name, text := range files {
		if err := w.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(text))}); err != nil {
			t.Fatal(err)
		}
		fmt.Fprint(w, text)
	}
	w.Close()
	z.Close()
	return b.Bytes()
}

func texts(t testing.TB, data []byte) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x")
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	got, err := Texts(t.Context(), file, func(name string) bool { return strings.HasPrefix(name, "LIC") }, 5)
	if err != nil {
		return "error"
	}
	return fmt.Sprint(got)
}

func TestTexts(t *testing.T) {
	all := archived(t, map[string]string{"tide-1.0/LICENSE": "free as the tide", "tide-1.0/README": "x", "tide-1.0/sub/LICENSE": "not this one"})
	for name, c := range map[string]struct {
		data []byte
		want string
	}{
		"an archive":   {all, "map[tide-1.0/LICENSE:free ]"},
		"no directory": {archived(t, map[string]string{"./LICENCE": "abc"}), "map[LICENCE:abc]"},
		"none":         {archived(t, map[string]string{"a/b": "x"}), "map[]"},
		"no archive":   {[]byte("LICENSE"), "map[]"},
		"empty":        {nil, "map[]"},
		"cut short":    {all[:len(all)/3], "map[]"},
		"no gzip":      {[]byte("\x1f\x8bxxxxxxxxxxxx"), "error"},
	} {
		if got := texts(t, c.data); got != c.want {
			t.Errorf("%s: %s, want %s", name, got, c.want)
		}
	}
}
