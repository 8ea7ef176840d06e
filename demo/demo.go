// Package demo holds a whole example: the workspace of a made-up harbour
// authority, and the sources that its recipes are made from.
package demo

import (
	"archive/tar"
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"ellwand.example/core/fact"
	"github.com/klauspost/compress/gzip"
)

//go:embed all:workspace all:upstream
var files embed.FS

// Recipes lists the example's recipes in the order in which they build.
var Recipes = []string{"libharmonic", "tidegauge", "saltmarsh-stations", "tide-almanac", "buoy-codec"}

// Faulty is a recipe with deliberate faults, for lint to teach on.
const Faulty = "foghorn"

// released is the time of every entry of the upstream archives: in the past,
// whatever the story's calendar says, or make would warn of it.
var released = time.Date(2025, 3, 1, 12, 0, 0, 0, time.UTC)

// Unpack lays the example out in dir, which does not exist yet: a workspace,
// and beside its recipes a directory upstream/ with the source archives.
func Unpack(dir string) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	if err := os.Mkdir(dir, 0o755); err != nil {
		return err
	}
	upstream := filepath.Join(dir, "upstream")
	if err := os.Mkdir(upstream, 0o755); err != nil {
		return err
	}
	address := url.URL{Scheme: "file", Path: upstream}
	replace := []string{"@UPSTREAM@", address.String()}
	sources, err := files.ReadDir("upstream")
	if err != nil {
		return err
	}
	var names []string
	for _, r := range releases {
		names = append(names, r.name)
	}
	for _, s := range sources {
		names = append(names, s.Name())
	}
	for _, name := range names {
		data, err := archive(name)
		if err != nil {
			return err
		}
		replace = append(replace, fmt.Sprintf("@SHA256:%s@", name), fact.SHA256(data))
		if err := os.WriteFile(filepath.Join(upstream, name+".tar.gz"), data, 0o644); err != nil {
			return err
		}
	}
	fill := strings.NewReplacer(replace...)
	return fs.WalkDir(files, "workspace", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(strings.TrimPrefix(name, "workspace")))
		if e.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		data, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		return os.WriteFile(to, []byte(fill.Replace(string(data))), mode(data))
	})
}

// mode makes scripts executable: embedded files have lost their modes.
func mode(data []byte) fs.FileMode {
	if bytes.HasPrefix(data, []byte("#!")) {
		return 0o755
	}
	return 0o644
}

// release is one that comes after the recipes were written: the one before
// them with some things changed, and a file that is new.
type release struct {
	name    string
	changes []string // pairs of what was and what is
	news    string
}

// previous is the release that the others are made of.
const previous = "libharmonic-1.4.2"

// releases come one after the other. The last one breaks with the past.
var releases = []release{
	{"libharmonic-1.4.3", changes, "Version 1.4.3\n\nThe next low water is found too: harmonic_next_low.\n"},
	{"libharmonic-2.0.0", []string{"1.4.2", "2.0.0", "libharmonic.so.1", "libharmonic.so.2"}, "Version 2.0.0\n\nPrograms have to be built again: the library is libharmonic.so.2 now.\n"},
}

// changes of the first of them, as pairs of what was and what is.
var changes = []string{
	"1.4.2", "1.4.3",
	"const char *harmonic_version(void);\n",
	`/* Finds the next low water after hours, to the minute. */
double harmonic_next_low(double mean, const struct harmonic_constituent *c, size_t n, double hours);

const char *harmonic_version(void);
`,
	"const char *harmonic_version(void) {",
	`double harmonic_next_low(double mean, const struct harmonic_constituent *c, size_t n, double hours)
{
	const double minute = 1.0 / 60.0;
	for (double t = hours + minute; t < hours + 26; t += minute)
		if (harmonic_height(mean, c, n, t) <= harmonic_height(mean, c, n, t - minute) &&
		    harmonic_height(mean, c, n, t) < harmonic_height(mean, c, n, t + minute))
			return t;
	return -1;
}

const char *harmonic_version(void) {`,
}

// archive packs one upstream release, the same bytes each time.
func archive(name string) ([]byte, error) {
	from, change, news := name, strings.NewReplacer(), ""
	for _, r := range releases {
		if r.name == name {
			from, change, news = previous, strings.NewReplacer(r.changes...), r.news
		}
	}

	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	w := tar.NewWriter(z)
	err = fs.WalkDir(files, path.Join("upstream", from), func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		h := &tar.Header{Format: tar.FormatUSTAR, Name: change.Replace(strings.TrimPrefix(p, "upstream/")), ModTime: released}
		if e.IsDir() {
			h.Typeflag, h.Name, h.Mode = tar.TypeDir, h.Name+"/", 0o755
			return w.WriteHeader(h)
		}
		data, err := files.ReadFile(p)
		if err != nil {
			return err
		}
		data = []byte(change.Replace(string(data)))
		h.Typeflag, h.Mode, h.Size = tar.TypeReg, int64(mode(data)), int64(len(data))
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		_, err = w.Write(data)
		return err
	})
	if err != nil {
		return nil, err
	}
	if news != "" {
		if err := w.WriteHeader(&tar.Header{Format: tar.FormatUSTAR, Name: name + "/NEWS", Mode: 0o644, Size: int64(len(news)), ModTime: released}); err != nil {
			return nil, err
		}
		if _, err := w.Write([]byte(news)); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
