package image

import (
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"ellwand.example/core/root"
)

func TestLock(t *testing.T) {
	dir := t.TempDir()
	l, err := ReadLock(dir, "station")
	if err != nil || len(l.Targets) != 0 {
		t.Fatal(l, err)
	}
	one := root.Installed{Name: "tide", Version: "1", Release: 1, Arch: "x86_64", SHA256: strings.Repeat("a", 64), Bytes: 3, Asked: true}
	other := root.Installed{Name: "gauge", Version: "2", Release: 1, Arch: "x86_64", SHA256: strings.Repeat("b", 64), Bytes: 4}
	first := NewPackages([]root.Installed{one, other}, nil)
	if first[0].Name != "gauge" || first[1].Changes != 0 || !reflect.DeepEqual(first[1].Installed(), one) {
		t.Errorf("%+v", first)
	}
	newer := one
	newer.Version, newer.SHA256 = "1.1", strings.Repeat("c", 64)
	second := NewPackages([]root.Installed{newer, other}, first)
	if second[0].Changes != 0 || second[1].Changes != 1 {
		t.Errorf("%+v", second)
	}
	if c := Difference(first, second); len(c) != 1 || c[0].Name != "tide" {
		t.Errorf("%+v", c)
	}
	l.Targets["saltmarsh-7"] = TargetLock{Wanted: "w", System: SystemLock{Name: SystemNone}, Packages: second}
	os.Mkdir(filepath.Join(dir, Dir), 0o755)
	if err := l.Write(dir, "station"); err != nil {
		t.Fatal(err)
	}
	if again, err := ReadLock(dir, "station"); err != nil || !reflect.DeepEqual(again, l) {
		t.Errorf("%+v, %v", again, err)
	}
	for text, want := range map[string]string{
		`{`:                            "is damaged",
		`{"format": 2, "targets": {}}`: "format 2",
		`{"format": 1, "other": 1}`:    "unknown field",
		`{"format": 1, "targets": {"t": {"packages": [{"name": "a", "sha256": "b"}]}}}`:                                                                                           "no digest",
		`{"format": 1, "targets": {"t": {"packages": [{"name": "b", "sha256": "` + strings.Repeat("a", 64) + `"}, {"name": "b", "sha256": "` + strings.Repeat("a", 64) + `"}]}}}`: "not in order",
	} {
		os.WriteFile(filepath.Join(dir, Dir, "station.lock"), []byte(text), 0o644)
		if _, err := ReadLock(dir, "station"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

func FuzzLock(f *testing.F) {
	f.Add(`{"format": 1, "targets": {"t": {"wanted": "", "system": {"name": "none"}, "packages": [{"name": "a", "version": "1", "release": 1, "arch": "x86_64", "sha256": "` + strings.Repeat("a", 64) + `", "bytes": 1}]}}}`)
	f.Fuzz(func(t *testing.T, text string) {
		l, err := ParseLock([]byte(text))
		if err != nil {
			return
		}
		dir := t.TempDir()
		os.Mkdir(filepath.Join(dir, Dir), 0o755)
		if err := l.Write(dir, "x"); err != nil {
			t.Fatal(err)
		}
		if again, err := ReadLock(dir, "x"); err != nil || len(again.Targets) != len(l.Targets) {
			t.Errorf("%v: %+v became %+v", err, l, again)
		}
	})
}
