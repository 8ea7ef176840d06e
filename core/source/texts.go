package source

import (
	"archive/tar"
	"context"
	"errors"
	"io"
	"os"
	"path"
	"strings"
)

// maxListed bounds how much of an archive Texts reads, unpacked.
const maxListed = 1 << 30

// Texts reads files at the top of an archive, or right in its one top folder:
// those that match tells of, up to limit bytes of each. The names are as they
// stand in the archive. Files that are no tar archives have no texts.
func Texts(ctx context.Context, archive string, match func(name string) bool, limit int64) (map[string]string, error) {
	f, err := os.Open(archive)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	plain, done, err := Decompress(f)
	if err != nil {
		return nil, err
	}
	defer done()
	out := map[string]string{}
	tr := tar.NewReader(io.LimitReader(plain, maxListed))
	for {
		h, err := tr.Next()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		// What follows an odd header is not read; unpacking tells of it.
		if errors.Is(err, io.EOF) || err != nil {
			return out, nil
		}
		name := strings.TrimPrefix(path.Clean(h.Name), "./")
		if h.Typeflag != tar.TypeReg || strings.Count(name, "/") > 1 || !match(path.Base(name)) {
			continue
		}
		text, err := io.ReadAll(io.LimitReader(tr, limit))
		if err != nil {
			return out, nil
		}
		out[name] = string(text)
	}
}
