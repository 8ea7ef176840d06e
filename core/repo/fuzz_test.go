package repo

import (
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/storage"
)

// FuzzPathRecord compares the quick reader of a line with the slow one.
func FuzzPathRecord(f *testing.F) {
	for _, line := range []string{
		`{"package":"tide@1-1","path":"/usr/share/tide"}`, `{"package":"tide@1-1","path":"/usr/share/a \"tide\""}`, `{"package":"a","path":"\u00e9"}`,
		`{"package":"a","path":"/é"}`, `{"path":"/a","package":"b"}`, `{"package":"a","path":"b"} `, `{"package":"a","path":"b","more":"c"}`, "{\"package\":\"a\",\"path\":\"\x01\"}", "{\"package\":\"a\",\"path\":\"\xff\"}",
	} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		if strings.Contains(line, "\n") {
			return // it would be two
		}
		var quick, slow PathRecord
		ok := quick.parse([]byte(line + "\n"))
		err := json.Unmarshal([]byte(line), &slow)
		if ok && (err != nil || quick != slow) {
			t.Errorf("%q: %+v, and %+v, %v", line, quick, slow, err)
		}
		if err != nil || quick != slow && ok {
			return
		}
		// What is written is read as the same again.
		data, err := compressed([]PathRecord{slow})
		if err != nil {
			return // no text that JSON can have
		}
		again, err := decodeLines[PathRecord](data, 1, nil, false)
		if err != nil || again[0] != slow {
			t.Errorf("%+v is read again as %+v, %v", slow, again, err)
		}
	})
}

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

// FuzzRefs compares the quick reader of what a snapshot names with the slow
// one.
func FuzzRefs(f *testing.F) {
	for _, text := range []string{
		`{}`, `{"00":{"count":1,"sha256":"` + strings.Repeat("0", 64) + `"}}`, `{"00":{"count":1,"sha256":"` + strings.Repeat("0", 64) + `"},"ff":{"count":20,"sha256":"` + strings.Repeat("f", 64) + `"}}`,
		`{"00":{"count":01,"sha256":"` + strings.Repeat("0", 64) + `"}}`, `{,"00":{"count":1,"sha256":"` + strings.Repeat("0", 64) + `"}}`, `null`, `{"00":{"count":1,"sha256":"x"}}`,
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		quick, ok := parseRefs(text)
		var slow map[string]Ref
		if err := json.Unmarshal([]byte(text), &slow); ok && (err != nil || !maps.Equal(quick, slow)) {
			t.Errorf("%s: %v, and %v, %v", text, quick, slow, err)
		}
	})
}
