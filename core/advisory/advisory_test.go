package advisory

import (
	"archive/zip"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// advisoryOf is about a package, in one range of events written "introduced fixed last limit".
func advisoryOf(id, purl, kind string, events ...string) string {
	var list []string
	for _, e := range events {
		name, v, _ := strings.Cut(e, " ")
		list = append(list, `{"`+name+`": "`+v+`"}`)
	}
	return `{"id": "` + id + `", "summary": "x", "affected": [{"package": {"purl": "` + purl + `"}, "ranges": [{"type": "` + kind + `", "events": [` + strings.Join(list, ", ") + `]}]}]}`
}

func TestMatch(t *testing.T) {
	for _, c := range []struct {
		name, advisory, purl, version string
		hit                           bool
		fixed                         string
	}{
		{"before", advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 2.0", "fixed 2.4"), "pkg:generic/tide", "1.9", false, ""},
		{"in it", advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 2.0", "fixed 2.4"), "pkg:generic/tide@2.3.9-1", "2.3.9", true, "2.4"},
		{"a candidate of the fix", advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 2.0", "fixed 2.4"), "pkg:generic/tide", "2.4rc1", true, "2.4"},
		{"fixed", advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 2.0", "fixed 2.4"), "pkg:generic/tide", "2.4", false, ""},
		{"from the start, and no fix", advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 0"), "pkg:generic/tide", "0.1", true, ""},
		{"the last affected", advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 0", "last_affected 2.0"), "pkg:generic/tide", "2.0", true, ""},
		{"after the last affected", advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 0", "last_affected 2.0"), "pkg:generic/tide", "2.0.1", false, ""},
		{"again, and events in no order", advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "fixed 3.1", "fixed 1.5", "introduced 3.0", "introduced 1.0"), "pkg:generic/tide", "3.0.1", true, "3.1"},
		{"between two ranges", advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 1.0", "fixed 1.5", "introduced 3.0", "fixed 3.1"), "pkg:generic/tide", "2.0", false, ""},
		{"another package", advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 0"), "pkg:generic/tides", "1", false, ""},
		{"another type", advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 0"), "pkg:npm/tide", "1", false, ""},
		{"commits", advisoryOf("A", "pkg:generic/tide", "GIT", "introduced 0"), "pkg:generic/tide", "1", false, ""},
		{"a module by its package URL", advisoryOf("A", "pkg:npm/%40salt/tide", "SEMVER", "introduced 0", "fixed 1.2.0"), "pkg:npm/%40salt/tide@1.2.0-rc.1", "1.2.0-rc.1", true, "1.2.0"},
		{"a module by its ecosystem", `{"id": "A", "affected": [{"package": {"ecosystem": "Go", "name": "salt.example/Tide"}, "ranges": [{"type": "SEMVER", "events": [{"introduced": "1.0.0"}, {"fixed": "1.10.0"}]}]}]}`, "pkg:golang/salt.example/tide@v1.9.0", "v1.9.0", true, "1.10.0"},
		{"a listed version", `{"id": "A", "affected": [{"package": {"ecosystem": "PyPI", "name": "Tide"}, "versions": ["1.0", "1.1"]}]}`, "pkg:pypi/tide@1.1", "1.1", true, ""},
		{"a version that is not listed", `{"id": "A", "affected": [{"package": {"ecosystem": "PyPI", "name": "Tide"}, "versions": ["1.0", "1.1"]}]}`, "pkg:pypi/tide@1.2", "1.2", false, ""},
		{"an artifact of Maven", `{"id": "A", "affected": [{"package": {"ecosystem": "Maven", "name": "salt:tide"}, "versions": ["1"]}]}`, "pkg:maven/salt/tide@1", "1", true, ""},
		{"an ecosystem of others", `{"id": "A", "affected": [{"package": {"ecosystem": "Other:7", "name": "tide"}, "versions": ["1"]}]}`, "pkg:generic/tide", "1", false, ""},
		{"withdrawn", strings.Replace(advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 0"), `"id"`, `"withdrawn": "2031-01-01T00:00:00Z", "id"`, 1), "pkg:generic/tide", "1", false, ""},
	} {
		var s Set
		if err := s.Add("a.json", []byte(c.advisory)); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		got := s.Match([]Component{{PURL: c.purl, Name: "tide", Version: c.version}})
		if (len(got) == 1) != c.hit || c.hit && got[0].Fixed != c.fixed {
			t.Errorf("%s: %+v", c.name, got)
		}
	}
}

func TestLoad(t *testing.T) {
	dir := t.TempDir()
	one := advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 0")
	os.MkdirAll(filepath.Join(dir, "a/b"), 0o755)
	os.WriteFile(filepath.Join(dir, "a/b/one.json"), []byte(one), 0o644)
	os.WriteFile(filepath.Join(dir, "two.json"), []byte("["+one+","+strings.Replace(one, `"A"`, `"B"`, 1)+"]"), 0o644)
	os.WriteFile(filepath.Join(dir, "README"), []byte("x"), 0o644)
	os.Symlink("/etc/passwd", filepath.Join(dir, "link.json"))
	archive := filepath.Join(t.TempDir(), "all.zip")
	f, _ := os.Create(archive)
	z := zip.NewWriter(f)
	w, _ := z.Create("x/one.json")
	w.Write([]byte(one))
	z.Close()
	f.Close()
	for place, want := range map[string]int{dir: 3, archive: 1, filepath.Join(dir, "two.json"): 2} {
		s, err := Load(t.Context(), place)
		if err != nil || s.Count != want {
			t.Errorf("%s: %v, %v", place, s, err)
		}
	}
	// One that is in two files is told once.
	s, _ := Load(t.Context(), dir)
	if m := s.Match([]Component{{PURL: "pkg:generic/tide", Name: "tide", Version: "1"}}); len(m) != 2 {
		t.Errorf("%v", m)
	}
	for name, text := range map[string]string{"bad.json": "{", "other.json": `{"name": "x"}`, "null.json": "[null]"} {
		file := filepath.Join(t.TempDir(), name)
		os.WriteFile(file, []byte(text), 0o644)
		if _, err := Load(t.Context(), file); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, place := range []string{t.TempDir(), filepath.Join(dir, "nothing")} {
		if _, err := Load(t.Context(), place); err == nil || !strings.Contains(err.Error(), "no advisories") {
			t.Errorf("%s: %v", place, err)
		}
	}
}

func FuzzAdvisory(f *testing.F) {
	f.Add(advisoryOf("A", "pkg:generic/tide", "ECOSYSTEM", "introduced 1.0", "fixed 1.5", "last_affected 3.0", "limit *"), "1.2")
	f.Fuzz(func(t *testing.T, text, version string) {
		var s Set
		if s.Add("x", []byte(text)) == nil {
			s.Match([]Component{{PURL: "pkg:generic/tide", Name: "tide", Version: version}, {PURL: "pkg:npm/tide", Name: "tide", Version: version}})
		}
	})
}
