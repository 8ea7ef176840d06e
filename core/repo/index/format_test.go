package index

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
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

// compressed is lines as they are stored.
func compressed[T any](items []T) ([]byte, error) {
	text, err := lines(items)
	enc, err2 := encoder()
	return enc.EncodeAll(text, nil), errors.Join(err, err2)
}

func FuzzListing(f *testing.F) {
	good, err := compressed([]Record{{Name: "tide", Version: "1", Release: 1, File: "packages/t/tide/tide@1-1.ell", SHA256: strings.Repeat("0", 64)}})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good, 1)
	var many Listing
	for i := range 40 {
		name := fmt.Sprintf("tide-%d", i)
		many.Records = append(many.Records, Record{Name: name, Version: "1", Release: 1, File: "packages/t/" + name + "/" + name + "@1-1.ell", SHA256: strings.Repeat("0", 64)})
	}
	inParts, _, err := EncodeListing(&many, &StoredListing{}, 40, 0)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(inParts.Data, 40)
	f.Fuzz(func(t *testing.T, data []byte, count int) {
		if count < 0 {
			return // no snapshot has that
		}
		records, err := decodeLines[Record](data, count, nil, true)
		if err == nil && len(records) != count {
			t.Errorf("%d records where %d are said", len(records), count)
		}
		for _, r := range records {
			if r.check() == nil && (strings.Contains(r.File, "..") && !strings.Contains(r.Identity(), "..")) {
				t.Errorf("%q leads out", r.File)
			}
		}
		// The same, part by part.
		st := &StoredListing{listing: Ref{Count: count}}
		if st.Records = FramesOf(data, PartsOf(count)); st.Records == nil {
			return
		}
		st.paths = make([]PackedPart, len(st.Records))
		for i := range st.Records {
			c, err := st.Part(i)
			if err == nil && slices.ContainsFunc(c.Records, func(r Record) bool { return !c.covers(r.Name) }) {
				t.Errorf("part %d has what is not of it", i)
			}
		}
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
