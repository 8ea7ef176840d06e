package source

import (
	"context"
	"io"
	"os"
	"path"
	"strings"

	"ellwand.example/core/source/archive"
)

// maxListed bounds how much of an archive Texts reads, unpacked.
const maxListed = 1 << 30

// Texts reads files at the top of an archive, or right in its one top directory:
// those whose name match accepts, up to limit bytes of each. The names are as they
// are in the archive. Files that are not tar archives have no texts.
func Texts(ctx context.Context, file string, match func(name string) bool, limit int64) (map[string]string, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	plain, done, err := archive.Decompress(f)
	if err != nil {
		return nil, err
	}
	defer done()
	out := map[string]string{}
	err = archive.ReadTar(ctx, io.LimitReader(plain, maxListed), func(e archive.Entry) error {
		name := strings.TrimPrefix(path.Clean(e.Name), "./")
		if e.Kind != archive.File || strings.Count(name, "/") > 1 || len(out) >= maxTexts || !match(path.Base(name)) {
			return nil
		}
		text, err := io.ReadAll(io.LimitReader(e.Contents, limit))
		if err == nil {
			out[name] = string(text)
		}
		return err
	})
	if ctx.Err() != nil {
		return nil, err
	}
	// What follows an odd header is not read; unpacking reports it.
	return out, nil
}

// maxTexts bounds how many files Texts returns.
const maxTexts = 100
