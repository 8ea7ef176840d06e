package lint

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ellwand.example/core/fact"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// TestCatalogue looks at every rule: each is complete, is stored once, and in the
// area that its code begins with.
func TestCatalogue(t *testing.T) {
	seen := map[string]bool{}
	titles := map[string]string{}
	for _, r := range Rules() {
		if fact.AreaOf(r.Code) == fact.AreaNone {
			t.Errorf("%s is not a code", r.Code)
		}
		if seen[r.Code] || titles[r.Title] != "" {
			t.Errorf("%s stands twice (%s)", r.Code, titles[r.Title])
		}
		seen[r.Code], titles[r.Title] = true, r.Code
		for what, text := range map[string]string{"title": r.Title, "why": r.Why, "remedy": r.Remedy, "wrong": r.Wrong, "right": r.Right} {
			if text == "" {
				t.Errorf("%s has no %s", r.Code, what)
			}
		}
		if r.Severity.Rank() < 0 || strings.HasSuffix(r.Title, ".") || strings.HasSuffix(r.Remedy, ".") && !strings.HasSuffix(r.Remedy, "...") || !strings.HasSuffix(r.Why, ".") && !strings.HasSuffix(r.Why, "?") {
			t.Errorf("%s is not written like the others: %q, %q, %q", r.Code, r.Title, r.Why, r.Remedy)
		}
		checks := 0
		for _, has := range []bool{r.recipe != nil, r.file != nil, r.pkg != nil, r.set != nil, r.OfRepositories()} {
			if has {
				checks++
			}
		}
		if checks != 1 {
			t.Errorf("%s has %d checks", r.Code, checks)
		}
	}
	if len(seen) < 120 {
		t.Errorf("%d rules", len(seen))
	}
	for _, c := range []struct{ word, want string }{{"ell105", "ELL105"}, {"ELL105", "ELL105"}, {"ELL1", ""}, {"ELL999", ""}} {
		if r, ok := Find(c.word); r.Code != c.want || ok != (c.want != "") {
			t.Errorf("Find(%q) = %q, %v", c.word, r.Code, ok)
		}
	}
}

func parsed(t *testing.T, text string) *recipe.Recipe {
	t.Helper()
	r, err := recipe.Parse("recipe.toml", []byte(text), recipe.Target{Arch: "x86_64"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func recipeOfExample(t *testing.T, piece string) *recipe.Recipe {
	return parsed(t, Workspace(piece).Files["recipes/tide/recipe.toml"])
}

func told(findings []fact.Finding) string {
	var out []string
	for _, f := range findings {
		word := f.Code + ":" + string(f.Severity)
		if f.Waived != "" {
			word += "-"
		}
		out = append(out, word)
	}
	return strings.Join(out, " ")
}

// TestQuiet looks at recipes about which there is nothing to say, however odd
// they look: what a rule must not take for a mistake.
func TestQuiet(t *testing.T) {
	for name, piece := range map[string]string{
		"plain":               "",
		"quoted otherwise":    stageFile("install -d \"${DESTDIR}/usr\" \"$DESTDIR\"/usr/share\nx=$DESTDIR/usr\nls \"$x\""),
		"here-document":       stageFile("cat > \"$DESTDIR/usr/a\" <<END\nrun $DESTDIR/bin | sudo make -j4\nEND"),
		"numbers and dates":   stageFile("date -u -d \"@$SOURCE_DATE_EPOCH\" +%Y > \"$DESTDIR/usr/year\"\nuname -m"),
		"pipes of no concern": stageFile("echo a | sort > b\nls | while read -r f; do echo \"$f\"; done\ntar -c . | tar -x -C \"$DESTDIR\""),
		"may fail":            stageFile("rm -f a || true\ngrep x y || :\ntest -e z || exit 0"),
		"flags are added to":  buildFile("make --version CFLAGS=\"$CFLAGS -DX\" CXXFLAGS=\"$CXXFLAGS\"\nexport LDFLAGS=\"$LDFLAGS -lm\"\nCFLAGS=\"-DY ${CFLAGS}\" make --version"),
		"one job":             buildFile("make --version -j1\nmake --version -j\"$ELL_JOBS\""),
		"offline":             "[needs]\nbuild = [\"command/git\", \"command/rsync\"]\n" + stageFile("git init\ngit config --global a b\nrsync -a a b"),
		"functions":           stageFile("put() { install -m644 \"$1\" \"$2\"; }\nput a b"),
		"version by chance":   "version = \"1.2\"\n" + stageFile("echo 1.25 v11.2 0.1.2.3"),
		"etc.":                `summary = "Print tables of tides, currents etc."`,
		"an abbreviation":     `summary = "Print tables as on board the R.V. S.T.A.R."`,
		"open bounds":         "[needs]\nrun = [\"a >= 1, < 2\", \"a != 1.5\", \"b = 1\", \"c > 1, <= 1.0.1\", \"d < 1\"]",
		"both bounds":         "[needs]\nrun = [\"a >= 1\", \"a < 2\"]",
		"removal":             stageFile("rm -rf \"$DESTDIR/usr/doc\" \"${x:-a}\"/* \"$ELL_SOURCE\"/tmp"),
	} {
		findings := (&Linter{}).Recipe(t.Context(), recipeOfExample(t, piece))
		for _, f := range findings {
			t.Errorf("%s: %s line %d: %s", name, f.Code, f.Line, f.Message)
		}
	}
}

func TestProfile(t *testing.T) {
	r := recipeOfExample(t, "release = 2\nhomepage = \"\"\n"+stageFile("curl x")) // a warning, a hint, an error, and a need
	for _, c := range []struct {
		profile Profile
		want    string
	}{
		{Profile{}, "ELL132:error ELL105:warning ELL151:warning ELL117:hint"},
		{Profile{Level: Normal}, "ELL132:error ELL105:warning ELL151:warning ELL117:hint"},
		{Profile{Level: Lenient}, "ELL132:error ELL105:hint ELL151:hint"},
		{Profile{Level: Strict}, "ELL105:error ELL132:error ELL151:error ELL117:warning"},
		{Profile{Off: []string{"ell132", "ELL151"}}, "ELL105:warning ELL117:hint"},
		{Profile{Level: Lenient, Severities: map[string]fact.Severity{"ell117": Error, "ELL132": Hint}}, "ELL117:error ELL105:hint ELL132:hint ELL151:hint"},
	} {
		if got := told((&Linter{Profile: c.profile}).Recipe(t.Context(), r)); got != c.want {
			t.Errorf("%+v: %s, want %s", c.profile, got, c.want)
		}
	}
	for text, want := range map[string]string{
		"": "error true", "refuse = \"warning\"": "warning true", "refuse = \"never\"": " false",
	} {
		doc := document.Parse("ellwand.toml", []byte("[lint]\n"+text))
		var settings struct {
			Lint Profile `toml:"lint"`
		}
		doc.Decode(&settings)
		settings.Lint.Check(doc, "lint")
		s, ok := settings.Lint.Refuses()
		if got := string(s) + map[bool]string{true: " true", false: " false"}[ok]; got != want || doc.Problems.Err() != nil {
			t.Errorf("%s: %s, %v", text, got, doc.Problems.Err())
		}
	}
}

// TestFix fixes recipes, and looks at the results: the finding is gone,
// and nothing else has changed.
func TestFix(t *testing.T) {
	parse := func(text []byte) (*recipe.Recipe, error) {
		return recipe.Parse("recipe.toml", text, recipe.Target{Arch: "x86_64"}, nil)
	}
	for _, c := range []struct{ code, piece, old, now string }{
		{"ELL102", `summary = "Print tables."`, `"Print tables."`, `"Print tables"`},
		{"ELL108", "[[source]]\nurl = 'https://a.example/tide-1.2.tar.gz'\nsha256 = \"" + strings.Repeat("0", 64) + "\"", "tide-1.2.tar", "tide-{version}.tar"},
		{"ELL111", "[[waive]]\ncode = \"ELL101\"\nreason = \"x\"\n\n# the end\n[discards]", "[[waive]]\ncode = \"ELL101\"\nreason = \"x\"\n\n", ""},
		{"ELL115", `license = "MIT OR GPL-2.0+"`, "GPL-2.0+", "GPL-2.0-or-later"},
		{"ELL133", stageFile("cp a $DESTDIR/a; cp b ${TMPDIR}/b\nls >$DESTDIR/c"), "cp a $DESTDIR/a; cp b ${TMPDIR}/b\nls >$DESTDIR/c", "cp a \"$DESTDIR/a\"; cp b \"${TMPDIR}/b\"\nls >\"$DESTDIR/c\""},
		{"ELL135", buildFile("make -j4 a\nmake a -j8"), "make -j4 a\nmake a -j8", "make -j\"$ELL_JOBS\" a\nmake a -j\"$ELL_JOBS\""},
		{"ELL151", stageFile("cmake ."), "[steps]", "[needs]\nbuild = [\"command/cmake\"]\n\n[steps]"},
		{"ELL151", "[needs]\nrun = [\"a\"]\n" + stageFile("cmake ."), "[needs]\n", "[needs]\nbuild = [\"command/cmake\"]\n"},
		{"ELL151", "[needs]\nbuild = [\n  \"command/cc\",\n]\n" + stageFile("cc a; cmake ."), "  \"command/cc\"", "  \"command/cmake\", \"command/cc\""},
	} {
		piece := strings.TrimSuffix(c.piece, "[discards]")
		r := recipeOfExample(t, piece)
		before := string(r.Doc.Data)
		m, err := Fix(r, (&Linter{}).Recipe(t.Context(), r), parse)
		if err != nil {
			t.Errorf("%s: %v", c.code, err)
			continue
		}
		if want := strings.Replace(before, c.old, c.now, 1); string(m.Text) != want {
			t.Errorf("%s: %q\nbecame\n%s\nwant\n%s", c.code, c.piece, m.Text, want)
			continue
		}
		again := (&Linter{}).Recipe(t.Context(), parsed(t, string(m.Text)))
		if slices.ContainsFunc(again, func(f fact.Finding) bool { return f.Code == c.code }) {
			t.Errorf("%s: it is still found", c.code)
		}
	}
}

// TestFixLayout fixes what is found at paths of packages, in every way in
// which a layout can be written.
func TestFixLayout(t *testing.T) {
	for _, c := range []struct{ tables, want string }{
		{"[package.tide.layout]\n\"/**\" = {}", "\"/**\" = {}\n\"/etc/a\" = { kind = \"config\" }"},
		{"[package.tide.layout]\n\"/**\" = {}\n\"/etc/a\" = {}", "\"/etc/a\" = { kind = \"config\" }"},
		{"[package.tide.layout]\n\"/etc/a\" = { mode = \"0600\" }", "\"/etc/a\" = { kind = \"config\", mode = \"0600\" }"},
		{"[package.tide.layout]\n\"/etc/a\" = { kind = \"state\" }", "\"/etc/a\" = { kind = \"config\" }"},
		{"[package.tide]\nlayout = { \"/**\" = {} }", "layout = { \"/etc/a\" = { kind = \"config\" }, \"/**\" = {} }"},
	} {
		r := parsed(t, exampleFacts+c.tables+"\n")
		text, err := r.Doc.Apply(inLayout("tide", "/etc/a", "kind", "config")(r))
		if err != nil || !strings.Contains(string(text), c.want) {
			t.Errorf("%s\nbecame\n%s (%v)", c.tables, text, err)
			continue
		}
		if got := parsed(t, string(text)).Packages["tide"].Layout["/etc/a"].Kind; got != "config" {
			t.Errorf("%s: kind %q", c.tables, got)
		}
	}
	bare := parsed(t, exampleFacts)
	text, err := bare.Doc.Apply(inLayout("tide", "/etc/a", "kind", "config")(bare))
	if err != nil || parsed(t, string(text)).Packages["tide"].Layout["/etc/a"].Kind != "config" {
		t.Errorf("without a layout: %s (%v)", text, err)
	}
	for _, facts := range []string{"", "discard = []\n", "discard = [\"/b\"]\n"} {
		r := parsed(t, exampleFacts+facts)
		text, err := r.Doc.Apply(discard("/a~")(r))
		if err != nil || !slices.Contains(parsed(t, string(text)).Discard, "/a~") {
			t.Errorf("%q: %s (%v)", facts, text, err)
		}
	}
}

func TestNewSince(t *testing.T) {
	f := func(code, path, message string) fact.Finding {
		return fact.Finding{Code: code, Path: path, Message: message}
	}
	before := []fact.Finding{f("ELL205", "/usr/lib/tide-1.2/a~", "x"), f("ELL304", "/usr/bin/a", "has 3"), f("ELL304", "/usr/bin/b", "x")}
	now := []fact.Finding{f("ELL205", "/usr/lib/tide-1.3/a~", "x"), f("ELL205", "/usr/lib/tide-1.3/b~", "x"), f("ELL304", "/usr/bin/a", "has 4"), f("ELL304", "/usr/bin/a", "has 5"), f("ELL304", "/usr/bin/c", "x")}
	var got []string
	for _, f := range NewSince(now, before) {
		got = append(got, f.Code+f.Path+f.Message)
	}
	want := []string{"ELL205/usr/lib/tide-1.3/b~x", "ELL304/usr/bin/ahas 5", "ELL304/usr/bin/cx"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}

func TestRepository(t *testing.T) {
	findings := []fact.Finding{{Code: "ELL606", Message: "nobody needs c@1-1"}, {Code: "ELL601", Message: "a@1-1 needs b"}, {Code: "ELL607", Path: "packages/a.ell"}, {Code: "ELL999"}}
	l := &Linter{Profile: Profile{Off: []string{"ELL607"}}}
	got := l.Repository("r", findings)
	if told(got) != "ELL601:error ELL606:hint" || got[0].Subject != "r" || got[0].Remedy == "" {
		t.Errorf("%+v", got)
	}
}

func TestBuildPaths(t *testing.T) {
	for text, want := range map[string]string{
		"at /build/work/tide-1.2/x here":                            "/build/work/tide-1.2/x",
		"a/home/ines/.ellwand/build/tide/work\"b":                   "/.ellwand/build/tide/work",
		"go/build/x and /build/workers":                             "",
		strings.Repeat("/build/x", 1000) + "/build/stage/usr/share": "/build/stage/usr/share",
		"/build/home/":                 "/build/home/",
		"/build/stage":                 "",
		"\x00/build/needs/usr/lib\x00": "/build/needs/usr/lib",
	} {
		if got := buildPathIn([]byte(text)); got != want {
			t.Errorf("%.60q: %q, want %q", text, got, want)
		}
	}
	// Across the border of two blocks, too.
	long := strings.Repeat("x", 1<<20-6) + "/build/work/a"
	if got, err := findBuildPath(strings.NewReader(long), int64(len(long))); got != "/build/work/a" || err != nil {
		t.Errorf("across blocks: %q, %v", got, err)
	}
}

// TestExampleParts takes an example with every part apart.
func TestExampleParts(t *testing.T) {
	e := Workspace("summary = \"x\"\n[steps]\nstage = '''\n[no table]\n'''\n-- published --\n-- other ebb --\n[needs]\nrun = [\"tide\"]\n-- a file --\nEly\n-- /ellwand.toml --\nname = \"y\"\n-- then --\ntrue\n")
	own := parsed(t, e.Files["recipes/tide/recipe.toml"])
	if own.Summary != "x" || own.Steps.Stage != "[no table]\n" || len(own.Changes) != 1 || own.Name != "tide" {
		t.Errorf("%+v", own)
	}
	other := parsed(t, e.Files["recipes/ebb/recipe.toml"])
	if other.Name != "ebb" || fmt.Sprint(other.Needs.Run) != "[tide]" || other.Packages["ebb"].Layout["/usr/share/licenses/ebb/COPYING"].From != "COPYING" {
		t.Errorf("%+v", other)
	}
	if e.Files["recipes/tide/a file"] != "Ely\n" || e.Files["ellwand.toml"] != "name = \"y\"\n" || e.Then != "true\n" || parsed(t, e.Before["recipes/tide/recipe.toml"]).Version != "1.2" {
		t.Errorf("%+v", e)
	}
}
