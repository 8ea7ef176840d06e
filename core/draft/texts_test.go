package draft

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// in makes a tree of files.
func in(t *testing.T, files map[string]string) *tree {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { root.Close() })
	tr := &tree{root: root}
	for name := range files {
		tr.names = append(tr.names, strings.Split(name, "/")[0])
	}
	return tr
}

func TestDescription(t *testing.T) {
	const long = "Tide is a reckoner of high and low water. It reads constituents (e.g. M2) and prints tables."
	for _, c := range []struct{ title, file, text, want string }{
		{"a paragraph that begins with the name", "README.md", "# Tide\n\n[![build](https://ci.example/a.svg)](https://ci.example)\n\n**Tide** is a reckoner of [high and low\nwater](https://water.example). It reads constituents (e.g. M2) and prints `tables`.\n\nMore.\n", long},
		{"the heading in the same paragraph", "README", "TIDE\n====\nTide is a reckoner of high and low water. It reads constituents (e.g. M2) and prints tables.\n", long},
		{"reStructuredText", "README.rst", "Tide\n####\n\nTide_ is a reckoner of `high and low water <https://water.example>`_. It reads constituents (e.g. M2) and prints ``tables``.\n", long},
		{"what it is not about", "README", "This file tells how to build.\n\nTidewater is something else, which has nothing to do with it at all.\n\nCopyright 2031 by tide's authors, all rights reserved and so on.\n", ""},
		{"what became of it", "README", "Tide is already being used by harbours, by ports and by the odd sailor.\n\nTide is free software. You may copy it under the terms of its license.\n", ""},
		{"a drawing", "README", "Tide is a program that draws the following: _ _ |_|_| /\\/\\ ~~~~~~ ___ |/|/ _ _ |_|_|.\n", ""},
		{"too short", "README", "Tide is small.\n", ""},
		{"no whole sentence", "README", "Tide is a reckoner of high and low water for harbours, which has these parts:\n\n* one", ""},
		{"a long one ends with a sentence", "README", "Tide is a reckoner of high and low water. " + strings.Repeat("It goes on and on and on and on and on. ", 30), "Tide is a reckoner of high and low water." + strings.Repeat(" It goes on and on and on and on and on.", 16)},
		{"a manual", "man/tide.1", ".TH TIDE 1\n.SH NAME\ntide \\- tides\n.SH DESCRIPTION\n.\\\" a comment\n.PP\n\\fBTide\\fR reckons high\nand low water, as\n.B sailors\nneed it.\n.PP\nAnother.\n", "Tide reckons high and low water, as sailors need it."},
		{"a manual with macros of its own", "tide.8", ".Sh NAME\n.Nm tide\n.Sh DESCRIPTION\n.Nm\nreckons high and low water for all the harbours.\n.Bl -tag\n", "tide reckons high and low water for all the harbours."},
		{"metadata for catalogues", "data/tide.metainfo.xml.in", `<component><summary>Tides</summary><description><p xml:lang="de">Gezeiten</p><p>Reckons high and
			low water.</p><p>More.</p></description></component>`, "Reckons high and low water."},
		{"metadata that is none", "tide.metainfo.xml", "<component", ""},
	} {
		if got := in(t, map[string]string{c.file: c.text}).texts("tide").Description; got != c.want {
			t.Errorf("%s: %q, not %q", c.title, got, c.want)
		}
	}
}

func TestHomepage(t *testing.T) {
	for _, c := range []struct{ title, file, text, want string }{
		{"told", "README", "Bugs: https://bugs.example/tide\nHome page: <https://water.example/tide/>.\n", "https://water.example/tide/"},
		{"told for another", "README", "Its website is https://water.example/ebb.\n", ""},
		{"told by a link", "README.md", "[Tide homepage]: http://tide.example\n", "http://tide.example"},
		{"a host of its name", "README.md", "[![build](https://shields.io/x/tide)](https://travis.example/tide/tide)\nhttps://forge.example/ines/tide\nhttps://www.tide.example/\nhttps://docs.tide.example/manual\n", "https://www.tide.example/"},
		{"a place on a forge", "README.md", "git clone https://forge.example/ines/tide.git\nhttps://forge.example/ines/tide/issues\n", "https://forge.example/ines/tide"},
		{"a library", "README.md", "See https://forge.example/ines/libtide.\n", "https://forge.example/ines/libtide"},
		{"nothing", "README.md", "https://water.example/tidewater and https://ebb.example", ""},
		{"with a password", "README.md", "Homepage: https://a:b@tide.example/", ""},
		{"a description of the project", "tide.doap", `<Project><homepage rdf:resource="https://water.example/t"/></Project>`, "https://water.example/t"},
		{"metadata for catalogues", "tide.appdata.xml", `<component><url type="bugtracker">https://b.example</url><url type="homepage">https://h.example/</url></component>`, "https://h.example/"},
	} {
		if got := in(t, map[string]string{c.file: c.text}).texts("tide").Homepage; got != c.want {
			t.Errorf("%s: %q, not %q", c.title, got, c.want)
		}
	}
}

// A description is written so that it is read as the same, whatever is in it.
func TestFolded(t *testing.T) {
	got := folded("One \\n {two} \"\"\" " + strings.Repeat("word ", 30) + "\n\nthree")
	want := "One \\\\n {{two}} \"\"\\\" word word word word word word word word word word word word word word\n" +
		strings.TrimSpace(strings.Repeat("word ", 16)) + "\n\nthree"
	if got != want {
		t.Errorf("%s\nnot\n%s", got, want)
	}
}
