package recipe

import (
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/inspect/license"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe/document"
)

var (
	modeText = pattern.New(`^[0-7]{3,5}$`)
)

// required are the facts that every recipe states, with a line to paste.
var required = []struct{ key, line string }{
	{"format", `format = 1`},
	{"name", `name = "…"`},
	{"version", `version = "…"`},
	{"release", `release = 1`},
	{"summary", `summary = "…", one line that says what it does`},
	{"license", `license = "…", an SPDX expression such as "MIT"`},
}

// check records what is wrong with a recipe beyond its shape.
func (r *Recipe) check() {
	r.checkFacts()
	r.checkOptions()
	r.checkUpstream()
	r.checkSources()
	r.checkChangesToSources()
	r.checkSteps()
	for i, w := range r.Needs.When {
		r.demand("needs.when", i, "if", w.If, `if = "option.NAME"`)
	}
	for _, name := range r.PackageNames() {
		r.checkPackage(name, r.Packages[name])
	}
	for i, p := range r.Discard {
		r.checkPattern(p, r.Doc.At("discard", i))
	}
	for i, w := range r.Waivers {
		if r.demand("waive", i, "code", w.Code, `code = "…", as lint prints it`) && w.Reason == "" {
			r.Doc.Add(r.Doc.At("waive", i), "a waiver gives its reason", `add: reason = "…"`)
		}
	}
	r.checkChanges()
}

// demand reports a missing key of an item in an array of tables.
func (r *Recipe) demand(table string, i int, key, value, line string) bool {
	path := []any{}
	for part := range strings.SplitSeq(table, ".") {
		path = append(path, part)
	}
	path = append(path, i)
	if value == "" && r.Doc.Find(append(path, key)...) == nil {
		r.Doc.Add(r.Doc.At(path...), fmt.Sprintf("`%s` is missing in this [[%s]]", key, table), "add: "+line)
	}
	return value != ""
}

func (r *Recipe) checkFacts() {
	d := r.Doc
	var last document.Span // of the facts: where a missing one would be added
	for _, key := range d.Root.Keys {
		if n := d.Root.Get(key); n.Kind != document.Table && n.Kind != document.Array && n.Key.Offset > last.Offset {
			last = n.Key
		}
	}
	for _, f := range required {
		if d.Find(f.key) == nil && !slices.Contains(d.Garbled, f.key) && !misspelt(d.Root.Keys, f.key) {
			d.Add(last, fmt.Sprintf("`%s` is missing", f.key), "add a line: "+f.line)
		}
	}
	wellTyped := func(key string, kind document.Kind) bool {
		n := d.Find(key)
		return n != nil && n.Kind == kind
	}
	if wellTyped("format", document.Integer) && r.Format != Format {
		d.Add(d.At("format"), fmt.Sprintf("this recipe has format %d; this program reads format %d", r.Format, Format), fmt.Sprintf("format = %d", Format))
	}
	if wellTyped("name", document.String) && !need.ValidPackageName(r.Name) {
		d.Add(d.At("name"), fmt.Sprintf("%q cannot be a name", r.Name), need.PackageNameShape)
	}
	if wellTyped("version", document.String) && !version.Valid(r.Version) {
		d.Add(d.At("version"), fmt.Sprintf("%q cannot be a version", r.Version), version.Shape)
	}
	if r.Epoch < 0 {
		d.Add(d.At("epoch"), "an epoch is a whole number", "leave it out unless versions start over")
	}
	if wellTyped("release", document.Integer) && r.Release < 1 {
		d.Add(d.At("release"), "a release is counted from 1", "write release = 1")
	}
	r.checkSummary(r.Summary, "summary")
	r.checkCharacters()
	r.checkLengths()
	r.checkArch(r.Arch, "arch")
	if r.Compression != "" && !slices.Contains(fact.Compressions, r.Compression) {
		d.Add(d.At("compression"), fmt.Sprintf("unknown compression %q", r.Compression), "it is one of "+strings.Join(fact.Compressions, ", "))
	}
	if n := d.Find("license"); n != nil && n.Kind == document.String {
		for _, e := range license.Check(r.License) {
			d.Add(d.Inside(n, e.Offset, e.Length), e.Message, e.Remedy)
		}
	}
	if r.Homepage != "" && !webAddress(r.Homepage) {
		d.Add(d.At("homepage"), fmt.Sprintf("%q is not a web address", r.Homepage), "it begins with https://")
	}
}

// misspelt reports whether one of the keys is unknown and most similar to the
// wanted one: it is reported as an unknown key, and not as missing too.
func misspelt(keys []string, wanted string) bool {
	known := document.Keys(reflect.TypeFor[Recipe]())
	return slices.ContainsFunc(keys, func(key string) bool {
		return !slices.Contains(known, key) && fact.Nearest(key, known) == wanted
	})
}

func (r *Recipe) checkSummary(s string, path ...any) {
	n := r.Doc.Find(path...)
	switch {
	case n == nil || n.Kind != document.String:
	case strings.TrimSpace(s) == "":
		r.Doc.Add(n.Value, "the summary is empty", "say in one line what the package does")
	case strings.Contains(s, "\n"):
		r.Doc.Add(n.Value, "the summary has more than one line", "longer text belongs in `description`")
	}
}

func (r *Recipe) checkArch(a string, path ...any) {
	if a != "" && a != fact.Independent {
		r.Doc.Add(r.Doc.At(path...), fmt.Sprintf("%q cannot be given as an architecture", a), `write arch = "independent" for files that suit every machine; leave it out otherwise, and the target decides`)
	}
}

func webAddress(s string) bool {
	u, err := url.Parse(s)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != ""
}

// checkUpstream looks at where new versions are announced.
func (r *Recipe) checkUpstream() {
	d, u := r.Doc, r.Upstream
	stated := 0
	for _, key := range []string{"page", "git", "package"} {
		if n := d.Find("upstream", key); n != nil {
			if stated++; stated == 2 {
				d.Add(n.Key, "versions are announced in one place: a `page`, a `git` repository or a `package`", "")
			}
		}
	}
	if u.Page != "" && !webAddress(u.Page) {
		d.Add(d.At("upstream", "page"), fmt.Sprintf("%q is not a web address", u.Page), "it begins with https://")
	}
	if u.Git != "" && !gitAddress(u.Git) {
		d.Add(d.At("upstream", "git"), fmt.Sprintf("%q is not the address of a git repository", u.Git), gitAddressShape)
	}
	if u.Package != "" && !strings.HasPrefix(u.Package, "pkg:golang/") && !strings.HasPrefix(u.Package, "pkg:npm/") {
		d.Add(d.At("upstream", "package"), fmt.Sprintf("%q is not a package URL of Go or npm", u.Package), `such as "pkg:npm/left-pad"`)
	}
	if u.Match != "" && !strings.Contains(u.Match, r.Version) {
		d.Add(d.At("upstream", "match"), fmt.Sprintf("%q has no version in it", u.Match), `write {version} where it is: "release-{version}"`)
	}
}

// gitAddress reports whether git can fetch from an address.
func gitAddress(s string) bool {
	u, err := url.Parse(s)
	return err == nil && slices.Contains([]string{"https", "http", "ssh", "git", "file"}, u.Scheme) && u.Path != ""
}

const gitAddressShape = "it begins with https://, ssh://, git:// or file:///"

// origins are the keys that say where a source comes from.
var origins = []string{"url", "git", "file", "modules"}

func (r *Recipe) checkSources() {
	d := r.Doc
	for i, s := range r.Sources {
		item := d.Find("source", i)
		if item == nil || item.Kind != document.Table {
			continue
		}
		var stated []*document.Node
		for _, key := range origins {
			if n := item.Get(key); n != nil {
				stated = append(stated, n)
			}
		}
		switch {
		case len(stated) == 0:
			d.Add(item.Value, "a source needs a `url`, a `file`, a `git` repository or `modules`", `add: url = "https://…" or file = "…", a file beside the recipe`)
		case len(stated) > 1:
			d.Add(stated[1].Key, "a source has a `url`, a `file`, a `git` repository or `modules`, and one of them alone", "make two sources of it")
		}
		r.checkGit(i, s, item)
		r.checkModules(i, s, item)
		if u, err := url.Parse(s.URL); s.URL != "" && (err != nil || !slices.Contains([]string{"file", "http", "https"}, u.Scheme) || u.Path == "") {
			d.Add(d.At("source", i, "url"), fmt.Sprintf("%q is not an address that can be fetched", s.URL), "it begins with https://, http:// or file:///")
		}
		if s.File != "" {
			r.checkLocal(s.File, "a file beside the recipe", "source", i, "file")
		}
		if s.Into != "" {
			r.checkLocal(s.Into, "a path in the work tree", "source", i, "into")
		}
		if s.SHA256 != "" && !fact.IsSHA256(s.SHA256) {
			d.AddAction(d.At("source", i, "sha256"), fmt.Sprintf("a SHA-256 digest has 64 characters of 0-9 and a-f; this has %d", utf8.RuneCountInString(s.SHA256)),
				"remove it, and fetching prints the right one", fact.Action{Verb: fact.FetchSources, Subject: r.Name})
		}
		for j, p := range s.Skip {
			if !fact.IsPathPattern(p) {
				d.Add(d.At("source", i, "skip", j), fmt.Sprintf("%q is not a pattern", p), "")
			}
		}
	}
}

// checkModules looks at a source that is the modules of a language.
func (r *Recipe) checkModules(i int, s Source, item *document.Node) {
	d := r.Doc
	if n := item.Get("modules"); n != nil && n.Kind == document.String && !slices.Contains(fact.ModuleLanguages, s.Modules) {
		remedy := "it is one of " + strings.Join(fact.ModuleLanguages, ", ")
		if near := fact.Nearest(s.Modules, fact.ModuleLanguages); near != "" {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
		d.Add(n.Value, fmt.Sprintf("modules of %q cannot be fetched", s.Modules), remedy)
	}
	if n := item.Get("skip"); n != nil && s.Modules != "" {
		d.Add(n.Key, "`skip` leaves out paths of an archive, and modules are none", "")
	}
	for _, key := range []string{"run", "keep"} {
		n := item.Get(key)
		if n != nil && s.Modules != fact.ModuleScript {
			d.Add(n.Key, fmt.Sprintf("`%s` belongs to modules = %q", key, fact.ModuleScript), "a language has its own way")
		}
		if n == nil && s.Modules == fact.ModuleScript {
			d.Add(item.Value, fmt.Sprintf("`%s` is missing in this [[source]]", key), map[string]string{"run": "add: run = \"COMMAND\", which downloads", "keep": "add: keep = [\"…\"], the paths in the work tree that hold what was downloaded"}[key])
		}
	}
	if n := item.Get("run"); n != nil && n.Kind == document.String {
		r.parseScript(s.Run, n)
	}
	for j, p := range s.Keep {
		r.checkLocal(p, "a path in the work tree", "source", i, "keep", j)
	}
}

// checkGit looks at a source that is a commit.
func (r *Recipe) checkGit(i int, s Source, item *document.Node) {
	d := r.Doc
	if s.Git == "" {
		for _, key := range []string{"tag", "commit"} {
			if n := item.Get(key); n != nil {
				d.Add(n.Key, fmt.Sprintf("`%s` belongs to a `git` repository, and this source names none", key), `add: git = "https://…"`)
			}
		}
		return
	}
	if !gitAddress(s.Git) {
		d.Add(d.At("source", i, "git"), fmt.Sprintf("%q is not the address of a git repository", s.Git), gitAddressShape)
	}
	if n := item.Get("sha256"); n != nil {
		d.AddAction(n.Key, "a git repository is pinned by its commit, not by a digest", "write `commit`; pinning adds that of the tag", fact.Action{Verb: fact.PinSources, Subject: r.Name})
	}
	if s.Commit != "" && !fact.IsCommit(s.Commit) {
		d.Add(d.At("source", i, "commit"), fmt.Sprintf("%q is not the full name of a commit", s.Commit), "40 or 64 characters of 0-9 and a-f, as `git rev-parse` prints; tags and branches can move")
	}
	if s.Commit == "" && s.Tag == "" {
		d.AddAction(item.Get("git").Key, "the source names neither a commit nor a tag of the repository", `add: tag = "v{version}"; pinning then adds its commit`, fact.Action{Verb: fact.PinSources, Subject: r.Name})
	}
}

// checkLocal reports a path that leads out of where it belongs.
func (r *Recipe) checkLocal(p, what string, path ...any) {
	if !filepath.IsLocal(p) {
		r.Doc.Add(r.Doc.At(path...), fmt.Sprintf("%q does not name %s", p, what), "give it without a leading / and without ..")
	}
}

// checkReplaces reports what cannot be replaced: a package replaces other packages,
// each by its name.
func (r *Recipe) checkReplaces(p Package, name string) {
	for i, n := range p.Replaces {
		at := r.Doc.At("package", name, "replaces", i)
		switch {
		case len(n.Alternatives) == 0: // it could not be read
		case len(n.Alternatives) != 1 || n.Alternatives[0].Kind != need.Package:
			r.Doc.Add(at, fmt.Sprintf("%q is not one package", n), "name the package whose place it takes: replaces = [\"old-name < 2\"]")
		case n.Alternatives[0].Name == name:
			r.Doc.Add(at, "the package replaces itself", "a newer version takes the place of an older one without saying so")
		}
	}
}

func (r *Recipe) checkPackage(name string, p Package) {
	d := r.Doc
	item := d.Find("package", name)
	if item == nil || item.Kind != document.Table {
		return
	}
	if !need.ValidPackageName(name) {
		d.Add(item.Key, fmt.Sprintf("%q cannot be a package's name", name), need.PackageNameShape)
	}
	if len(r.Packages) > 1 && item.Get("layout") == nil {
		d.Add(item.Key, fmt.Sprintf("package %q has no layout, and the recipe makes several packages", name),
			fmt.Sprintf("add: [package.%s.layout] with the paths that belong to it", document.Key(name)))
	}
	r.checkSummary(p.Summary, "package", name, "summary")
	r.checkArch(p.Arch, "package", name, "arch")
	r.checkReplaces(p, name)
	for path, e := range p.Layout {
		entry := item.Get("layout").Get(path)
		r.checkPattern(path, entry.Key)
		r.checkEntry(path, e, "package", name, "layout", path)
	}
	r.checkChoices(name, p)
	r.checkRefresh(name, p)
	for account := range p.Accounts {
		if !fact.IsAccountName(account) {
			d.Add(item.Get("account").Get(account).Key, fmt.Sprintf("%q cannot be an account's name", account), "small letters, digits, _ and -, at most 31")
		}
	}
}

// checkChoices looks at the layout's lines that offer their path for a link.
func (r *Recipe) checkChoices(name string, p Package) {
	first := map[string]string{}
	for _, path := range slices.Sorted(maps.Keys(p.Layout)) {
		e := p.Layout[path]
		at := func(key string) document.Span { return r.Doc.At("package", name, "layout", path, key) }
		switch {
		case e.Choice == "" && e.Priority != 0:
			r.Doc.Add(at("priority"), "`priority` belongs to a choice", "add: choice = \"/usr/bin/NAME\", or leave it out")
		case e.Choice == "":
		case strings.ContainsAny(path, "*?[{") || strings.HasSuffix(path, "/"):
			r.Doc.Add(at("choice"), "a choice leads to one path, and this is a pattern or a directory", "name the path in full")
		case !fact.IsCleanPath(e.Choice) || strings.ContainsAny(e.Choice, "*?[{"):
			r.Doc.Add(at("choice"), fmt.Sprintf("%q is not a path", e.Choice), "write it in full, such as \"/usr/bin/tide\"")
		case e.Choice == path:
			r.Doc.Add(at("choice"), "the link would lead to itself", "install the path under a name of its own, such as "+path+"-2")
		case first[e.Choice] != "":
			r.Doc.Add(at("choice"), fmt.Sprintf("the package offers %s for it already", first[e.Choice]), "keep one of the two")
		case e.Priority < 0 || e.Priority > maxPriority:
			r.Doc.Add(at("priority"), fmt.Sprintf("%d is not a priority", e.Priority), fmt.Sprintf("a number from 0 to %d; the highest is chosen", maxPriority))
		default:
			first[e.Choice] = path
		}
	}
}

// maxPriority is the highest priority of an offer for a choice.
const maxPriority = 1_000_000

// checkRefresh looks at the scripts that run after a change of what they read.
func (r *Recipe) checkRefresh(name string, p Package) {
	for i, refresh := range p.Refresh {
		n := r.Doc.Find("package", name, "refresh", i)
		if n == nil || n.Kind != document.Table {
			continue
		}
		if len(refresh.Paths) == 0 && n.Get("paths") == nil {
			r.Doc.Add(n.Value, "`paths` is missing in this [[package."+name+".refresh]]", `add: paths = ["/usr/share/NAME/*"]`)
		}
		for k, pattern := range refresh.Paths {
			r.checkPattern(pattern, r.Doc.At("package", name, "refresh", i, "paths", k))
		}
		run := n.Get("run")
		if run == nil {
			r.Doc.Add(n.Value, "`run` is missing in this [[package."+name+".refresh]]", `add: run = "COMMAND"`)
		} else if run.Kind == document.String {
			r.parseScript(refresh.Run, run)
		}
	}
}

func (r *Recipe) checkPattern(p string, at document.Span) {
	switch {
	case !strings.HasPrefix(p, "/"):
		r.Doc.Add(at, fmt.Sprintf("%q is not a path in the package", p), fmt.Sprintf("paths begin with /: %q", "/"+strings.TrimPrefix(p, "./")))
	case !fact.IsPathPattern(p):
		r.Doc.Add(at, fmt.Sprintf("%q is not a pattern", p), "a bracket or brace is not closed (\\ before a character makes it literal), or it has more than 4 ** or 4 { in it")
	case strings.Contains(p+"/", "/../") || strings.Contains(p+"/", "/./") || strings.Contains(p, "//"):
		r.Doc.Add(at, fmt.Sprintf("%q is not a clean path", p), "write it without ., .. and //")
	}
}

func (r *Recipe) checkEntry(path string, e Entry, at ...any) {
	d := r.Doc
	place := func(key string) document.Span { return d.At(append(slices.Clone(at), key)...) }
	if e.Kind != "" && !slices.Contains(fact.Kinds, e.Kind) {
		remedy := "the kinds are " + strings.Join(fact.Kinds, ", ") + "; leave it out for anything else"
		if near := fact.Nearest(e.Kind, fact.Kinds); near != "" {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
		d.Add(place("kind"), fmt.Sprintf("unknown kind of path %q", e.Kind), remedy)
	}
	for i, name := range e.Capabilities {
		if slices.Contains(fact.Capabilities, name) {
			continue
		}
		remedy := "capabilities(7) lists them; they are written small, without cap_"
		if near := fact.Nearest(strings.TrimPrefix(strings.ToLower(name), "cap_"), fact.Capabilities); near != "" {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
		d.Add(d.At(append(slices.Clone(at), "capabilities", i)...), fmt.Sprintf("unknown capability %q", name), remedy)
	}
	if e.Mode != "" && !modeText.MatchString(e.Mode) {
		d.Add(place("mode"), fmt.Sprintf("%q is not a mode", e.Mode), `octal digits, such as "0640"`)
	}
	for _, who := range []struct{ key, name string }{{"owner", e.Owner}, {"group", e.Group}} {
		if who.name != "" && !fact.IsAccountName(who.name) {
			d.Add(place(who.key), fmt.Sprintf("%q cannot be an account's name", who.name), "owners and groups are given by name")
		}
	}
	if e.Replace && e.From == "" {
		d.Add(place("replace"), "`replace` belongs to `from`", `add: from = "FILE", a file beside the recipe that takes the place of the staged one`)
	}
	if e.From != "" {
		r.checkLocal(e.From, "a file beside the recipe", append(slices.Clone(at), "from")...)
		if strings.ContainsAny(path, "*?[{") || strings.HasSuffix(path, "/") {
			d.Add(place("from"), "`from` puts one file at one path, and this is a pattern or a directory", "name the path in full")
		}
	}
}

func (r *Recipe) checkChanges() {
	d := r.Doc
	for i, c := range r.Changes {
		item := d.Find("change", i)
		if item.Kind != document.Table {
			continue
		}
		if r.demand("change", i, "version", c.Version, fmt.Sprintf("version = %q", r.Full())) {
			if _, err := version.ParseFull(c.Version); err != nil {
				d.Add(d.At("change", i, "version"), err.Error(), fmt.Sprintf("write it like %q", r.Full()))
			}
		}
		r.demand("change", i, "date", string(c.Date), "date = 2031-04-02")
		if item.Get("text") == nil {
			d.Add(item.Value, "`text` is missing in this [[change]]", `add: text = ["what is new"]`)
		}
	}
}
