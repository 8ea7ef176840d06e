package image

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ellwand.example/core/testtool"
)

func parseText(t *testing.T, text string) (*Description, error) {
	t.Helper()
	return Parse("images/station.toml", []byte(text), "station", t.TempDir())
}

// All mistakes are told at once, each where it is.
func TestMistakes(t *testing.T) {
	const start = "format = 1\npackages = [\"tide\"]\n"
	for _, c := range []struct{ text, want string }{
		{"packages = [\"tide\"]", "`format` is missing"},
		{"format = 2\npackages = [\"tide\"]", "1:10: this image has format 2"},
		{"format = 1", "`packages` is missing"},
		{"format = 1\npackages = [\"tide | gauge\"]", "2:13: "},
		{"format = 1\npackages = [\"tide >\"]", "2:"},
		{start + "manifest = \"../x.json\"", "not a file beside"},
		{start + "without = [\"programs\"]", "cannot be left out"},
		{start + "sumary = \"x\"", "unknown key `sumary`"},
		{start + "summary = \"a\\nb\"", "one line"},
		{start + "forms = [\"ocy\"]", `3:10: unknown form "ocy"`},
		{start + "[environment]\n\"A B\" = \"x\"", "cannot be the name of a variable"},
		{start + "[run]\nports = [\"80/icmp\"]", "4:10: \"80/icmp\" is not a port"},
		{start + "[run]\nuser = \"Tide Gauge\"", "cannot be an account's name"},
		{start + "[run]\nstop = \"TERM\"", "is not a signal"},
		{start + "[run]\ndirectory = \"var\"", "is not a clean absolute path"},
		{start + "[run]\nvolumes = [\"/var/../etc\"]", "is not a clean absolute path"},
		{start + "[[file]]\npath = \"/etc/motd\"", "a file needs contents"},
		{start + "[[file]]\ntext = \"x\"", "`path` is missing in this [[file]]"},
		{start + "[[file]]\npath = \"/a\"\ntext = \"x\"\nfrom = \"y\"", "not both"},
		{start + "[[file]]\npath = \"/a\"\nfrom = \"/etc/passwd\"", "not a file beside"},
		{start + "[[file]]\npath = \"/a/../b\"\ntext = \"x\"", "is not a clean absolute path"},
		{start + "[[file]]\npath = \"/a\"\ntext = \"x\"\nmode = \"rw\"", "is not a mode"},
		{start + "[[file]]\npath = \"/var/lib/ellwand/state.json\"\ntext = \"x\"", "belongs to the record"},
		{start + "[[file]]\npath = \"/a\"\ntext = \"\"\n[[directory]]\npath = \"/a\"", "/a is added twice"},
		{start + "[[directory]]\npath = \"/a\"\nowner = \"Me\"", "cannot be an account's name"},
		{start + "[[link]]\npath = \"/a\"", "a link needs a target"},
		{start + "[account.Tide]\n", "cannot be an account's name"},
		{start + "[account.tide]\nhome = \"var\"", "is not a clean absolute path"},
		{start + "[oci]\ncompression = \"xz\"", "unknown compression \"xz\""},
		{start + "[oci]\nreference = \"A B\"", "cannot be what an image is called"},
		{start + "[archive]\ncompression = \"zstandard\"", "unknown compression"},
		{start + "[trial]\ntime = \"soon\"", "is not a time"},
	} {
		_, err := parseText(t, c.text)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q: %v, want %q", c.text, err, c.want)
		}
	}
	_, err := parseText(t, "format = 1\npackages = [\"tide\"]\nforms = [\"x\"]\n[run]\nports = [\"p\"]\nuser = \"-\"\n")
	for _, want := range []string{":3:10:", ":5:10:", ":6:8:"} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v: want %s", err, want)
		}
	}
}

func TestLoad(t *testing.T) {
	dir := t.TempDir()
	if names, err := Names(dir); err != nil || len(names) > 0 {
		t.Fatal(names, err)
	}
	if _, err := Load(dir, "station", "x"); err == nil || !strings.Contains(err.Error(), "describes none") {
		t.Error(err)
	}
	os.Mkdir(filepath.Join(dir, Dir), 0o755)
	for _, name := range []string{"station.toml", "station.lock", "Up.toml", "made"} {
		os.WriteFile(filepath.Join(dir, Dir, name), []byte("format = 1\npackages = [\"tide >= 2\"]\n[trial]\ntime = \"30s\"\n"), 0o644)
	}
	if names, err := Names(dir); err != nil || len(names) != 1 || names[0] != "station" {
		t.Fatal(names, err)
	}
	if _, err := Load(dir, "statoin", "x"); err == nil || !strings.Contains(err.Error(), `did you mean "station"?`) {
		t.Error(err)
	}
	d, err := Load(dir, "station", "x")
	if err != nil || d.TrialTime().Seconds() != 30 || d.WantedForms()[0] != FormOCI || d.Packages[0].String() != "tide >= 2" {
		t.Error(d, err)
	}
}

func TestSchema(t *testing.T) {
	data, err := Schema()
	if err != nil {
		t.Fatal(err)
	}
	if testtool.CheckSchema(t, data, Keys()) != 1 || !strings.Contains(string(data), `"zstd"`) {
		t.Errorf("%s", data)
	}
}

// What a draft writes can be read.
func TestDraft(t *testing.T) {
	for _, d := range []Draft{
		{Name: "station", Packages: []string{"tide"}},
		{Name: "station", Packages: []string{"tide >= 2", "gauge"}, Summary: `A "tide" \ station` + "\x01", System: "saltmarsh.tar.zst", Program: "/usr/bin/tide", User: "tide"},
	} {
		got, err := parseText(t, d.Text())
		if err != nil || len(got.Packages) != len(d.Packages) || got.Summary != d.Summary || got.System != d.System || got.Run.User != d.User {
			t.Errorf("%+v, %v\n%s", got, err, d.Text())
		}
	}
}

func TestComponents(t *testing.T) {
	digest := strings.Repeat("a", 64)
	for _, c := range []struct{ text, want string }{
		{`[{"name": "tide", "version": "2.0", "digest": "sha256:` + digest + `"}, {"name": "gauge"}]`, ""},
		{`{"bomFormat": "CycloneDX", "components": [{"name": "tide", "version": "2.0", "type": "library"}]}`, ""},
		{`[]`, "lists no components"},
		{`{"components": 3}`, "cannot unmarshal"},
		{`[{"version": "2.0"}]`, "component 1 has no name"},
		{`[{"name": "tide", "digest": "md5:1"}]`, "a digest that is none"},
		{`tide`, "invalid character"},
	} {
		d, err := parseText(t, "format = 1\nmanifest = \"list.json\"\n")
		if err != nil {
			t.Fatal(err)
		}
		os.WriteFile(filepath.Join(d.Dir, "list.json"), []byte(c.text), 0o644)
		list, err := d.Components()
		switch {
		case c.want == "" && (err != nil || list[0].Name != "tide" || list[0].Version != "2.0" || list[0].Digest != "" && list[0].Digest != digest):
			t.Errorf("%s: %v, %v", c.text, list, err)
		case c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%s: %v, want %q", c.text, err, c.want)
		}
	}
	d, _ := parseText(t, "format = 1\nmanifest = \"list.json\"\n")
	os.Symlink("/etc/passwd", filepath.Join(d.Dir, "list.json"))
	if _, err := d.Components(); err == nil || !strings.Contains(err.Error(), "escapes") {
		t.Errorf("a link out of the directory: %v", err)
	}
}

func FuzzDescription(f *testing.F) {
	f.Add("format = 1\npackages = [\"tide\"]\n[[file]]\npath = \"/etc/motd\"\ntext = \"x\"\n[run]\nports = [\"80\"]")
	f.Fuzz(func(t *testing.T, text string) {
		d, err := Parse("x.toml", []byte(text), "x", "")
		if err == nil {
			d.TrialTime()
			d.WantedForms()
		}
	})
}
