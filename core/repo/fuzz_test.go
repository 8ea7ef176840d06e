package repo

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/storage"
)

// FuzzSnapshot reads states that somebody made up, with all that follows: a
// reader fails in words, and reads nothing that is not named by its digest.
func FuzzSnapshot(f *testing.F) {
	f.Add(`{"format":1,"target":"t","packages":1,"listings":{"00":{"sha256":"` + strings.Repeat("0", 64) + `","count":1}}}`)
	f.Add(`{"format":1,"listings":{"00":{"sha256":"../../../etc/passwd","count":1}}}`)
	f.Add(`{"format":1,"parent":"x","listings":null,"files":{"zz":{"sha256":"","count":-1}}}`)
	dir := f.TempDir()
	os.MkdirAll(filepath.Join(dir, "snapshots"), 0o755)
	f.Fuzz(func(t *testing.T, snapshot string) {
		sum := fact.SHA256([]byte(snapshot))
		os.WriteFile(filepath.Join(dir, "snapshots", sum+".json"), []byte(snapshot), 0o644)
		defer os.Remove(filepath.Join(dir, "snapshots", sum+".json"))
		os.WriteFile(filepath.Join(dir, storage.PointerFile), []byte(`{"format":1,"serial":1,"channels":{"testing":{"t":"`+sum+`"}}}`), 0o644)
		r := Open(dir)
		contents, err := r.List(ctx, "testing")
		if err == nil && len(contents[0].Records) > 0 {
			t.Error("packages from nowhere")
		}
		r.Audit(ctx, "testing", nil, progress.None)
		r.History(ctx, "testing", 3)
		r.Verify(ctx, progress.None)
	})
}
