package draft

import (
	"bytes"
	"cmp"
	"context"
	"debug/elf"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"ellwand.example/core/engine/build"
	"ellwand.example/core/fact"
	"ellwand.example/core/needs/satisfy"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
	"ellwand.example/core/recipe/layout"
	"ellwand.example/core/staging"
)

// Round is one try to build a drafted recipe.
type Round struct {
	Number  int    `json:"round"`
	Failed  string `json:"failed"`  // what went wrong
	Learned string `json:"learned"` // what the recipe says now because of it
}

// maxRounds bounds the tries; each of them learns something new.
const maxRounds = 20

// Trials builds a drafted recipe, learns from each failure, and tries again
// for as long as there is something to learn.
type Trials struct {
	Builder *build.Builder
	Facts   *Facts
	// Write puts the recipe of the facts where the builder's workspace has it.
	Write func() error
	// Tell is notified of each round that failed and taught something.
	Tell func(Round)

	latest  error           // of the last build
	first   *attempt        // the likeliest method, once another is tried
	staging int             // which way to install is tried
	tried   map[string]bool // what was learned, so that nothing is learned twice
}

// Run builds until packages come out. The error of the last try, from which
// nothing new was learned, is the build's own.
func (t *Trials) Run(ctx context.Context) (build.Result, error) {
	t.tried = map[string]bool{}
	if t.Facts.Unsupported != "" {
		return build.Result{}, fact.Errorf(fact.StatusInput, "%s: %s", path.Join("recipes", t.Facts.Name, recipe.FileName), t.Facts.Unsupported)
	}
	for n := 1; ; n++ {
		res, err := t.try(ctx)
		if err == nil {
			return t.watched(ctx, res)
		}
		if ctx.Err() != nil || n > maxRounds {
			return res, err
		}
		round := Round{Number: n}
		t.latest = err
		if round.Failed, round.Learned = t.learn(ctx, err); round.Learned == "" {
			return res, t.giveUp(err)
		}
		t.Tell(round)
	}
}

// attempt is a recipe with the error that its build ended with.
type attempt struct {
	facts Facts
	err   error
}

// giveUp leaves the recipe of the likeliest method behind, and returns its error: what
// prevents that is what somebody has to know, rather than why the last resort failed.
func (t *Trials) giveUp(err error) error {
	if t.first == nil {
		return err
	}
	*t.Facts = t.first.facts
	if failed := t.Write(); failed != nil {
		return failed
	}
	return t.first.err
}

// strayError is an installation that did not go where it should.
type strayError struct {
	path string
}

func (e *strayError) Error() string {
	return e.path + " was installed, outside of the usual directories"
}

func (t *Trials) try(ctx context.Context) (build.Result, error) {
	if err := t.Write(); err != nil {
		return build.Result{}, err
	}
	r, err := t.Builder.Workspace.Recipe(t.Facts.Name)
	if err != nil {
		return build.Result{}, err
	}
	if t.Facts.Modules != "" && t.Facts.Pinned == "" {
		if r, err = t.pinModules(ctx, r); err != nil {
			return build.Result{}, err
		}
	}
	first := t.Facts.Layout == ""
	if first {
		staged, err := t.Builder.Staged(ctx, r, build.Options{Tests: testTime})
		if err != nil {
			return build.Result{}, err
		}
		if err := t.layout(staged); err != nil {
			return build.Result{}, err
		}
		if err := t.Write(); err != nil {
			return build.Result{}, err
		}
		if r, err = t.Builder.Workspace.Recipe(t.Facts.Name); err != nil {
			return build.Result{}, err
		}
	}
	res, err := t.Builder.Build(ctx, r, build.Options{Tests: testTime})
	if first && res.State == build.Repacked {
		res.State = build.Built // the steps ran just now, to see what they stage
	}
	return res, err
}

// pinModules fetches the modules of the source's language, which the recipe then pins.
func (t *Trials) pinModules(ctx context.Context, r *recipe.Recipe) (*recipe.Recipe, error) {
	got, err := t.Builder.FetchSource(ctx, r, len(r.Sources)-1)
	if err != nil {
		return nil, err
	}
	t.Facts.Pinned = got.SHA256
	if err := t.Write(); err != nil {
		return nil, err
	}
	return t.Builder.Workspace.Recipe(t.Facts.Name)
}

// topDirs are where packages install to.
var topDirs = pattern.New(`^/(usr|etc|var|opt|srv|boot|lib|lib64|bin|sbin)(/|$)`)

// muchToRead is from how many bytes on documentation is split off.
const muchToRead = 256 << 10

// layout fills in the layouts from what was staged: one package, and others
// for what there is to build with besides, and for much documentation.
func (t *Trials) layout(staged []staging.Path) error {
	var development, other, native bool
	var documents int64
	for _, p := range staged {
		if p.Type == staging.File && !native {
			var err error
			if native, err = isNative(p.Disk); err != nil {
				return err
			}
		}
		switch {
		case p.Type == staging.Directory:
		case !topDirs.MatchString(p.Path):
			return &strayError{path: p.Path}
		case layout.Documentation(p.Path):
			documents += p.Size
		case layout.Development(p.Path):
			// Man pages of section 3 alone are those of modules, which are used as they are.
			development = development || !strings.HasPrefix(p.Path, "/usr/share/man/man3/")
		case staging.DefaultKind(p.Path) == "" && !strings.HasSuffix(p.Path, ".la"):
			other = true
		}
	}
	if !development && !other {
		return errors.New("the stage step installed nothing into $DESTDIR that runs or is built with")
	}
	f := t.Facts
	if !native {
		f.Arch = fact.Independent
	}
	names := []string{f.Name}
	if development && other {
		names = append(names, f.Name+"-dev")
	}
	if documents > muchToRead && other {
		names = append(names, f.Name+"-doc")
	}
	suggestions := layout.Suggest(names, staged)
	var b strings.Builder
	for _, name := range names {
		own := slices.DeleteFunc(slices.Clone(suggestions), func(s layout.Suggestion) bool { return s.Package != name })
		switch name {
		case f.Name + "-dev":
			fmt.Fprintf(&b, "[package.%s]\nsummary = %s\nneeds   = [%q]\n\n", document.Key(name), quoted([]string{"Development files of " + f.Name}), f.Name+" = {full}")
		case f.Name + "-doc":
			fmt.Fprintf(&b, "[package.%s]\nsummary = %s\n", document.Key(name), quoted([]string{"Documentation of " + f.Name}))
			if f.Arch != fact.Independent {
				fmt.Fprintf(&b, "arch    = %q\n", fact.Independent)
			}
			b.WriteString("\n")
		}
		b.WriteString(layout.Lines(own) + "\n")
	}
	f.Layout = strings.TrimRight(b.String(), "\n") + "\n"
	f.Discard = nil
	for _, s := range suggestions {
		if s.Package == "" {
			f.Discard = append(f.Discard, s.Pattern)
		}
	}
	return nil
}

// learn changes the facts after a failure. Nothing learned is an empty string.
func (t *Trials) learn(ctx context.Context, err error) (failed, learned string) {
	f := t.Facts
	var stray *strayError
	var step *build.StepError
	var missing *satisfy.MissingError
	switch {
	case errors.As(err, &stray):
		return err.Error(), t.otherStaging(ctx)
	case errors.As(err, &missing) && len(f.Test) > 0:
		needed := strings.Join(f.Test, ", ")
		f.Test = nil
		return "what the tests need is not here", t.leaveOutTests("The source's own tests need " + needed + ", which is not here; once it\n# is, take this out:")
	case errors.As(err, &missing) && f.Method == "autotools" && slices.Contains(f.Build, infoWriter) && t.once("without "+infoWriter):
		f.Build = slices.DeleteFunc(f.Build, func(s string) bool { return s == infoWriter })
		f.Configure = append(f.Configure, "MAKEINFO=true")
		return infoWriter + " is not here", "the manual in the Info format is not made"
	case errors.As(err, &missing):
		return "some of what it needs is not here", t.otherMethod()
	case !errors.As(err, &step):
		return err.Error(), ""
	}
	failed = "step " + step.Step + " " + step.Ended
	for _, c := range step.Causes {
		if learned := t.learnFrom(ctx, c, step.Step); learned != "" {
			return "step " + step.Step + ": " + c.Message, learned
		}
	}
	switch {
	case step.Step == recipe.Stage && f.Method == "make":
		return failed, t.otherStaging(ctx)
	case step.Step == recipe.Test:
		return failed, t.withoutFailing(step)
	}
	if step.Step == recipe.Prepare || step.Step == recipe.Build {
		if learned := t.turnOff(step.Tail); learned != "" {
			return failed, learned
		}
	}
	if step.Step == recipe.Prepare && f.Steps[recipe.Prepare] == ownConfigure && t.once("without arguments") {
		f.Steps[recipe.Prepare] = "./configure"
		return failed, "the configure script gets no arguments"
	}
	if learned := t.leaveOutDirectory(step); learned != "" {
		return failed, learned
	}
	switch {
	case step.Step == recipe.Build && (f.Method == "make" || f.Method == "autotools") && len(step.Causes) == 0 && t.once("one"):
		f.Steps[recipe.Build] = "export MAKEFLAGS=-j1 # several processes at once do not build it\n" + recipe.MethodScript(f.Method, recipe.Build, f.Configure)
		return failed, "the build step runs one process at a time"
	}
	if other := t.otherMethod(); other != "" {
		return failed, other
	}
	return failed, ""
}

// leftDirectory is a line of make's with the directory that it stopped in.
var leftDirectory = pattern.New(`make(?:\[\d+\])?: Leaving directory '/build/work/([^']+)'`)

// besideTheProduct are directories that a package does without.
var besideTheProduct = pattern.New(`(?i)^(docs?|documentation|man|manual|examples?|samples?|demos?|tests?|testsuite|bench(marks?)?|contrib|fuzz(ing)?)$`)

// leaveOutDirectory leaves a directory of a source with Autotools out, if make stopped in it
// and a package does without.
func (t *Trials) leaveOutDirectory(step *build.StepError) string {
	f := t.Facts
	if step.Step != recipe.Build || f.Method != "autotools" {
		return ""
	}
	// It leaves directories that it is done with, too; what counts comes after the error.
	at := max(0, slices.IndexFunc(step.Tail, func(line string) bool { return strings.Contains(line, "*** ") }))
	for _, line := range step.Tail[at:] {
		m := leftDirectory.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		dir, _, _ := strings.Cut(m[1], "/")
		if !besideTheProduct.MatchString(dir) || !t.once("without directory "+dir) {
			return ""
		}
		script := f.Steps[recipe.Prepare]
		if script == "" {
			script = recipe.MethodScript(f.Method, recipe.Prepare, f.Configure)
		}
		f.Steps[recipe.Prepare] = fmt.Sprintf(`%s
# The directory %[2]s does not build.
sed -i -E '/^SUBDIRS *=/,/[^\\]$/ s/(^|[[:space:]])%[2]s([[:space:]]|$)/\1\2/' Makefile`, script, dir)
		return "the directory " + dir + " is left out"
	}
	return ""
}

// once reports whether something was not tried before.
func (t *Trials) once(what string) bool {
	if t.tried[what] {
		return false
	}
	t.tried[what] = true
	return true
}

// otherMethod goes on with the next way in which the source can be built.
func (t *Trials) otherMethod() string {
	f := t.Facts
	if len(f.others) == 0 {
		return ""
	}
	if t.first == nil {
		t.first = &attempt{*f, t.latest}
		t.first.facts.Steps, t.first.facts.others = maps.Clone(f.Steps), nil
	}
	before := methodName(f.Method)
	f.take(f.others[0])
	f.others, t.staging, t.tried = f.others[1:], 0, map[string]bool{}
	return fmt.Sprintf("method %s in place of %s", methodName(f.Method), before)
}

// infoWriter makes manuals in the Info format, which packages can do without.
const infoWriter = "command/makeinfo"

func methodName(method string) string { return cmp.Or(method, "of its own") }

// learnFrom changes the facts after one cause of a failure.
func (t *Trials) learnFrom(ctx context.Context, c build.Cause, step string) string {
	f := t.Facts
	switch c.Kind {
	case build.MissingCommand:
		if c.What == "python" && t.once("python3") {
			before := f.Steps[recipe.Prepare]
			if before == "" {
				before = recipe.MethodScript(f.Method, recipe.Prepare, f.Configure)
			}
			f.Steps[recipe.Prepare] = strings.TrimSpace(namePython3 + "\n" + before)
			f.Build = append(f.Build, "command/python3")
			slices.Sort(f.Build)
			f.Build = slices.Compact(f.Build)
			return "scripts for python run with python3"
		}
		return t.learnNeed(c, step)
	case build.MissingHeader, build.MissingModule, build.MissingLibrary:
		return t.learnNeed(c, step)
	case build.WritesOutside, build.NoTarget, build.ChangesOwner:
		if step == recipe.Stage {
			return t.otherStaging(ctx)
		}
	case build.OldProject:
		if strings.Contains(c.Remedy, "CMAKE") && t.once("cmake") {
			f.Configure = append(f.Configure, "-DCMAKE_POLICY_VERSION_MINIMUM=3.5")
			return "CMake takes it for a newer project"
		}
		if f.Method == "autotools" && t.once("autoreconf") {
			f.Steps[recipe.Prepare] = "autoreconf -fi\n" + recipe.MethodScript(f.Method, recipe.Prepare, f.Configure)
			f.Build = append(f.Build, "command/autoreconf")
			slices.Sort(f.Build)
			return "autoreconf regenerates the build files"
		}
	case build.StrictWarnings:
		if t.once("warnings") {
			for _, s := range []string{recipe.Prepare, recipe.Build, recipe.Test} {
				if script := recipe.MethodScript(f.Method, s, f.Configure); script != "" && f.Steps[s] == "" {
					f.Steps[s] = "export CFLAGS=\"$CFLAGS -Wno-error\" CXXFLAGS=\"$CXXFLAGS -Wno-error\"\n" + script
				}
			}
			return "compiler warnings are no errors"
		}
	}
	return ""
}

// namePython3 makes scripts for python run with python3, which is what it is called now.
const namePython3 = `grep -rlIE '^#!.*[/ ]python$' . | while read -r script; do
	sed -i '1s/python$/python3/' "$script"
done
find . -name 'Makefile*' -o -name '*.mk' | while read -r makefile; do
	sed -i -E 's/(^|[[:space:]=@])python([[:space:]])/\1python3\2/g' "$makefile"
done`

// learnNeed does without what is missing, or adds the need for it.
func (t *Trials) learnNeed(c build.Cause, step string) string {
	f := t.Facts
	if s := f.without(c.What); s != "" && !slices.Contains(f.Configure, s) && t.once(s) {
		f.Configure = append(f.Configure, s)
		return "configure gets " + s
	}
	if c.Need != "" && step == recipe.Test && !slices.Contains(f.Build, c.Need) && t.once(c.Need) {
		f.Test = append(f.Test, c.Need)
		slices.Sort(f.Test)
		return "the tests need " + c.Need
	}
	if c.Need != "" && !slices.Contains(f.Build, c.Need) && t.once(c.Need) {
		f.Build = append(f.Build, c.Need)
		slices.Sort(f.Build)
		return "the build needs " + c.Need
	}
	return ""
}

// without is the switch of the configure script that does without something.
func (f *Facts) without(what string) string {
	what = strings.TrimPrefix(strings.TrimSuffix(strings.ToLower(path.Base(what)), ".h"), "lib")
	for _, s := range f.Switches {
		word, _, _ := strings.Cut(strings.Fields(s)[0], "=")
		word, _, _ = strings.Cut(word, "[")
		for _, prefix := range []string{"--with-", "--without-", "--enable-", "--disable-"} {
			if rest, ok := strings.CutPrefix(word, prefix); ok && strings.TrimPrefix(rest, "lib") == what {
				if strings.Contains(prefix, "with") {
					return "--without-" + rest
				}
				return "--disable-" + rest
			}
		}
	}
	return ""
}

// otherStaging takes the next way to install: for makefiles that know of no
// $DESTDIR the prefix itself moves; in the end files are installed one by one.
func (t *Trials) otherStaging(ctx context.Context) string {
	f := t.Facts
	if f.Method != "make" {
		return ""
	}
	t.staging++
	switch t.staging {
	case 1:
		f.Steps[recipe.Stage] = movedPrefix
		return "the stage step moves the prefix, in place of $DESTDIR"
	case 2:
		script, err := t.installEach(ctx)
		if err != nil || script == "" {
			return ""
		}
		f.Steps[recipe.Stage] = script
		return "the stage step installs what was built, file by file"
	}
	return ""
}

// movedPrefix installs below $DESTDIR by way of the prefix.
const movedPrefix = `# The makefile knows of no $DESTDIR: the prefix moves in its place, and nothing
# that was installed may point into it.
(root=$DESTDIR; unset DESTDIR; make PREFIX="$root$PREFIX" prefix="$root$PREFIX" install)
find "$DESTDIR" -type l -lname "$DESTDIR/*" | while read -r link; do
	ln -sfn "$(readlink "$link" | sed "s|^$DESTDIR||")" "$link"
done
grep -rlIF "$DESTDIR" "$DESTDIR" | while read -r file; do
	sed -i "s|$DESTDIR||g" "$file"
done`

// aside are directories of a source with programs that are not for users.
var aside = pattern.New(`(^|/)(tests?|testing|examples?|samples?|bench(marks?)?|fuzz(ing)?|contrib|CMakeFiles|\.libs|autom4te\.cache)(/|$)`)

// installEach writes a script that installs the programs and manuals in the
// work tree as the build step left it.
func (t *Trials) installEach(ctx context.Context) (string, error) {
	r, err := t.Builder.Workspace.Recipe(t.Facts.Name)
	if err != nil {
		return "", err
	}
	res, err := t.Builder.Build(ctx, r, build.Options{Until: recipe.Build})
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(res.Work)
	root, err := os.OpenRoot(res.Work)
	if err != nil {
		return "", err
	}
	defer root.Close()
	var lines []string
	add := func(mode, from, dir string) {
		lines = append(lines, fmt.Sprintf("install -D -m %s %s \"$DESTDIR\"%s", mode, shellWord(from), shellWord(path.Join(dir, path.Base(from)))))
	}
	programs := 0
	err = fs.WalkDir(root.FS(), ".", func(name string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() && aside.MatchString(name):
			return fs.SkipDir
		case !e.Type().IsRegular() || strings.ContainsAny(name, "'\n"):
			return nil
		}
		head, err := readHead(root, name)
		if err != nil {
			return err
		}
		switch section := manualSection(name, head); {
		case isProgram(filepath.Join(res.Work, name), head):
			add("755", name, "/usr/bin")
			programs++
		case section != "":
			add("644", name, "/usr/share/man/man"+section)
		}
		return nil
	})
	if err != nil || programs == 0 {
		return "", err
	}
	return "# The makefile installs nothing into $DESTDIR.\n" + strings.Join(lines, "\n"), nil
}

func shellWord(s string) string {
	if regexp.MustCompile(`^[\w./+@%,-]+$`).MatchString(s) {
		return s
	}
	return "'" + s + "'"
}

func readHead(root *os.Root, name string) ([]byte, error) {
	file, err := root.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	head := make([]byte, 4096)
	n, err := io.ReadFull(file, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, err
	}
	return head[:n], nil
}

// isNative reports whether a file is machine code: ELF, or an archive of such.
func isNative(file string) (bool, error) {
	f, err := os.Open(file)
	if err != nil {
		return false, err
	}
	defer f.Close()
	head := make([]byte, 8)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return false, err
	}
	return bytes.HasPrefix(head[:n], []byte(elf.ELFMAG)) || bytes.HasPrefix(head[:n], []byte("!<arch>\n")), nil
}

// isProgram reports whether a file is an ELF program, not a library or object.
func isProgram(file string, head []byte) bool {
	if !bytes.HasPrefix(head, []byte(elf.ELFMAG)) {
		return false
	}
	f, err := elf.Open(file)
	if err != nil {
		return false
	}
	defer f.Close()
	return f.Type == elf.ET_EXEC || f.Type == elf.ET_DYN && slices.ContainsFunc(f.Progs, func(p *elf.Prog) bool { return p.Type == elf.PT_INTERP })
}

var manualName = pattern.New(`\.([1-8])$`)

// manualSection is the section of a manual page; empty for what is none.
func manualSection(name string, head []byte) string {
	m := manualName.FindStringSubmatch(name)
	if m == nil || !bytes.Contains(head, []byte("\n.SH ")) && !bytes.Contains(head, []byte("\n.Sh ")) && !bytes.HasPrefix(head, []byte(".TH ")) {
		return ""
	}
	return m[1]
}
