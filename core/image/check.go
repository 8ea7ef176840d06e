package image

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/root"
)

// The shapes of parts of a description.
var (
	portShape        = pattern.New(`^[0-9]{1,5}(/(tcp|udp|sctp))?$`)
	variableShape    = pattern.New(`^[A-Za-z_][A-Za-z0-9_]*$`)
	modeShape        = pattern.New(`^[0-7]{3,4}$`)
	signalShape      = pattern.New(`^SIG[A-Z0-9+-]{1,12}$`)
	compressedLayers = []string{Gzip, Zstd}
	// Of a repository and a tag (OCI Distribution Specification 1.1, Pull), with an optional host.
	referenceShape = pattern.New(`^([A-Za-z0-9.-]+(:[0-9]+)?/)?[a-z0-9]+([._-]+[a-z0-9]+)*(/[a-z0-9]+([._-]+[a-z0-9]+)*)*(:[A-Za-z0-9_][A-Za-z0-9._-]{0,127})?$`)
)

// maxLength is how long a text of a description may be, in bytes.
const maxLength = 64 << 10

// check records what is wrong with a description beyond its shape.
func (d *Description) check() {
	d.checkFacts()
	d.checkRun()
	d.checkAdded()
	d.checkForms()
}

func (d *Description) add(message, remedy string, at ...any) {
	d.Doc.Add(d.Doc.At(at...), message, remedy)
}

func (d *Description) checkFacts() {
	if d.Doc.Find("format") == nil && !slices.Contains(d.Doc.Garbled, "format") {
		d.add("`format` is missing", "add a line: format = 1")
	} else if n := d.Doc.Find("format"); n != nil && n.Kind == document.Integer && d.Format != Format {
		d.add(fmt.Sprintf("this image has format %d; this program reads format %d", d.Format, Format), fmt.Sprintf("format = %d", Format), "format")
	}
	if len(d.Packages) == 0 && d.Manifest == "" && d.Doc.Find("packages") == nil && !slices.Contains(d.Doc.Garbled, "packages") {
		d.add("`packages` is missing", `add a line: packages = ["…"]`)
	}
	for i, n := range d.Packages {
		if len(n.Alternatives) > 1 {
			d.add(fmt.Sprintf("%q leaves open which package it is", n), "name one package, with bounds on its version if need be", "packages", i)
		}
	}
	if d.Manifest != "" && !isLocal(d.Manifest) {
		d.add(fmt.Sprintf("%q is not a file beside the description", d.Manifest), "a path without .. below the directory of the description", "manifest")
	}
	if err := root.CheckWithout(d.Without); err != nil {
		d.add(err.Error(), "", "without")
	}
	for _, t := range []struct {
		text string
		at   []any
	}{{d.Summary, []any{"summary"}}, {d.Trial.Run, []any{"trial", "run"}}} {
		if len(t.text) > maxLength {
			d.add(fmt.Sprintf("the text is longer than %s", fact.Bytes(maxLength)), "", t.at...)
		}
	}
	if strings.ContainsAny(d.Summary, "\n") {
		d.add("a summary is one line", "", "summary")
	}
	if t := d.Trial.Time; t != "" {
		if limit, err := time.ParseDuration(t); err != nil || limit <= 0 {
			d.add(fmt.Sprintf("%q is not a time", t), `such as "2m" or "30s"`, "trial", "time")
		}
	}
}

func isLocal(p string) bool {
	return p != "" && !path.IsAbs(p) && path.Clean(p) == p && !strings.HasPrefix(p, "../") && p != ".."
}

func (d *Description) checkRun() {
	for _, name := range slices.Sorted(maps.Keys(d.Environment)) {
		if !variableShape.MatchString(name) {
			d.add(fmt.Sprintf("%q cannot be the name of a variable", name), "letters, digits and _", "environment", name)
		}
		if strings.ContainsRune(d.Environment[name], 0) {
			d.add("the value of a variable cannot have a NUL in it", "", "environment", name)
		}
	}
	r := d.Run
	if len(r.Command) > 0 && r.Command[0] == "" {
		d.add("the first word of a command is a program", `command = ["/usr/bin/…"]`, "run", "command")
	}
	for i, p := range r.Ports {
		if !portShape.MatchString(p) {
			d.add(fmt.Sprintf("%q is not a port", p), `a number, with /udp if it is not TCP: "53/udp"`, "run", "ports", i)
		}
	}
	for i, v := range r.Volumes {
		if !fact.IsCleanPath(v) {
			d.add(fmt.Sprintf("%q is not a clean absolute path", v), "", "run", "volumes", i)
		}
	}
	if r.Directory != "" && r.Directory != "/" && !fact.IsCleanPath(r.Directory) {
		d.add(fmt.Sprintf("%q is not a clean absolute path", r.Directory), "", "run", "directory")
	}
	if r.User != "" && !fact.IsAccountName(r.User) {
		d.add(fmt.Sprintf("%q cannot be an account's name", r.User), "", "run", "user")
	}
	if r.Stop != "" && !signalShape.MatchString(r.Stop) {
		d.add(fmt.Sprintf("%q is not a signal", r.Stop), `such as "SIGTERM"`, "run", "stop")
	}
}

// checkAdded looks at what is added to the packages.
func (d *Description) checkAdded() {
	for i, f := range d.Files {
		d.checkPath("file", i, f.Path, f.Mode, f.Owner, f.Group)
		switch {
		case f.From != "" && d.Doc.Find("file", i, "text") != nil:
			d.add("a file has its contents from a file or from a text, not both", "remove `text` or `from`", "file", i, "text")
		case f.From != "" && !isLocal(f.From):
			d.add(fmt.Sprintf("%q is not a file beside the description", f.From), "a path without .. below the directory of the description", "file", i, "from")
		case f.From == "" && d.Doc.Find("file", i, "text") == nil && d.Doc.Find("file", i, "from") == nil:
			d.add("a file needs contents", `add: from = "…", a file beside the description, or text = "…"`, "file", i)
		}
	}
	for i, dir := range d.Directories {
		d.checkPath("directory", i, dir.Path, dir.Mode, dir.Owner, dir.Group)
	}
	for i, l := range d.Links {
		d.checkPath("link", i, l.Path, "", "", "")
		if l.Target == "" && d.Doc.Find("link", i, "target") == nil {
			d.add("a link needs a target", `add: target = "…"`, "link", i)
		}
	}
	seen := map[string]bool{}
	for _, list := range []struct {
		table string
		paths []string
	}{{"file", pathsOf(d.Files, func(f AddedFile) string { return f.Path })}, {"directory", pathsOf(d.Directories, func(f AddedDirectory) string { return f.Path })}, {"link", pathsOf(d.Links, func(f AddedLink) string { return f.Path })}} {
		for i, p := range list.paths {
			if p != "" && seen[p] {
				d.add(fmt.Sprintf("%s is added twice", p), "remove one of them", list.table, i, "path")
			}
			seen[p] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.Accounts)) {
		if !fact.IsAccountName(name) {
			d.add(fmt.Sprintf("%q cannot be an account's name", name), "lower-case letters, digits, - and _", "account", name)
		}
		if home := d.Accounts[name].Home; home != "" && !fact.IsCleanPath(home) {
			d.add(fmt.Sprintf("%q is not a clean absolute path", home), "", "account", name, "home")
		}
	}
}

func pathsOf[T any](all []T, of func(T) string) []string {
	out := make([]string, len(all))
	for i, one := range all {
		out[i] = of(one)
	}
	return out
}

func (d *Description) checkPath(table string, i int, p, mode, owner, group string) {
	switch {
	case p == "" && d.Doc.Find(table, i, "path") == nil:
		d.add(fmt.Sprintf("`path` is missing in this [[%s]]", table), `add: path = "/…"`, table, i)
	case !fact.IsCleanPath(p):
		d.add(fmt.Sprintf("%q is not a clean absolute path", p), "it begins with / and has no . or .. in it", table, i, "path")
	case p == "/"+root.StateDir || strings.HasPrefix(p, "/"+root.StateDir+"/"):
		d.add(fmt.Sprintf("%s belongs to the record of the packages", p), "choose another path", table, i, "path")
	}
	if mode != "" && !modeShape.MatchString(mode) {
		d.add(fmt.Sprintf("%q is not a mode", mode), `octal digits, such as "0640"`, table, i, "mode")
	}
	for _, who := range []struct{ key, name string }{{"owner", owner}, {"group", group}} {
		if who.name != "" && !fact.IsAccountName(who.name) {
			d.add(fmt.Sprintf("%q cannot be an account's name", who.name), "owners and groups are given by name", table, i, who.key)
		}
	}
}

func (d *Description) checkForms() {
	for i, f := range d.Forms {
		d.checkWord(f, Forms, "form", "forms", i)
	}
	d.checkWord(d.OCI.Compression, compressedLayers, "compression", "oci", "compression")
	d.checkWord(d.Disk.Filesystem, []string{Ext4, Squashfs}, "file system", "disk", "filesystem")
	d.checkWord(d.Disk.Format, []string{Raw, Qcow2}, "format", "disk", "format")
	for _, a := range []struct {
		text string
		at   []any
	}{{d.Disk.Size, []any{"disk", "size"}}, {d.Boot.Memory, []any{"boot", "memory"}}} {
		if n, err := fact.ParseBytes(a.text); a.text != "" && (err != nil || n < 16<<20) {
			d.add(fmt.Sprintf("%q is not an amount, or too small", a.text), `such as "4 GiB"`, a.at...)
		}
	}
	if strings.ContainsAny(d.Boot.Command, "\n\x00") {
		d.add("the kernel's command line is one line", "", "boot", "command")
	}
	d.checkWord(d.Archive.Compression, []string{Gzip, Zstd, None}, "compression", "archive", "compression")
	if r := d.OCI.Reference; r != "" && !referenceShape.MatchString(r) {
		d.add(fmt.Sprintf("%q cannot be what an image is called", r), `such as "registry.example/stations/tidegauge:1.0"`, "oci", "reference")
	}
}

func (d *Description) checkWord(word string, words []string, what string, at ...any) {
	if word == "" || slices.Contains(words, word) {
		return
	}
	remedy := "it is one of " + strings.Join(words, ", ")
	if near := fact.Nearest(word, words); near != "" {
		remedy = fmt.Sprintf("did you mean %q?", near)
	}
	d.add(fmt.Sprintf("unknown %s %q", what, word), remedy, at...)
}

// WantedForms are the forms that the description asks for.
func (d *Description) WantedForms() []string {
	if len(d.Forms) == 0 {
		return []string{FormOCI}
	}
	return d.Forms
}

// TrialTime is how long the trial of the image may take.
func (d *Description) TrialTime() time.Duration {
	limit, err := time.ParseDuration(cmp.Or(d.Trial.Time, "5m"))
	if err != nil {
		return 5 * time.Minute
	}
	return limit
}
