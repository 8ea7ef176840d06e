package recipe

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/vm"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe/document"
)

var optionName = pattern.New(`^[a-z][a-z0-9_]{0,40}$`)

// optionValues gives every option of a recipe its value: the one that is set,
// or its default.
func optionValues(doc *document.Document, set Values) Values {
	values := Values{}
	options := doc.Find("option")
	if options == nil || options.Kind != document.Table {
		return values
	}
	for _, name := range options.Keys {
		values[name] = ""
		if d := options.Get(name).Get("default"); d != nil {
			values[name] = d.Text
		}
		if v, ok := set[name]; ok {
			values[name] = v
		}
	}
	return values
}

func (r *Recipe) checkOptions() {
	d := r.Doc
	for name, o := range r.Options {
		n := d.Find("option", name)
		if n.Kind != document.Table {
			continue
		}
		if !optionName.MatchString(name) {
			d.Add(n.Key, fmt.Sprintf("%q cannot be an option's name", name), "small letters, digits and _, so that scripts can have it as $ELL_OPT_NAME")
		}
		if n.Get("default") == nil {
			d.Add(n.Key, fmt.Sprintf("option %q has no `default`", name), "add: default = false, or a string")
			continue
		}
		if len(o.Choices) > 0 && !o.Default.Bool && !slices.Contains(o.Choices, o.Default.Text) {
			d.Add(n.Get("default").Value, fmt.Sprintf("%q is not among the choices", o.Default.Text), "they are "+strings.Join(o.Choices, ", "))
		}
		if len(o.Choices) > 0 && o.Default.Bool {
			d.Add(n.Get("choices").Key, "an option that is true or false has no choices", "make the default a string, or drop the choices")
		}
	}
}

// ValueError is a value that an option cannot have.
type ValueError struct {
	Recipe, Option, Value string
	Expected              string
}

func (e *ValueError) Error() string {
	return fmt.Sprintf("option %s of %s cannot be %q: %s", e.Option, e.Recipe, e.Value, e.Expected)
}

// CheckValues compares the values that were set with what the options take.
func (r *Recipe) CheckValues() error {
	for _, name := range slices.Sorted(maps.Keys(r.Options)) {
		o, v := r.Options[name], r.Set[name]
		switch {
		case o.Default.Bool && v != "true" && v != "false":
			return &ValueError{r.Name, name, v, "it is true or false"}
		case len(o.Choices) > 0 && !slices.Contains(o.Choices, v):
			return &ValueError{r.Name, name, v, "it is one of " + strings.Join(o.Choices, ", ")}
		}
	}
	return nil
}

// environment is what conditions see.
func (r *Recipe) environment(set Values, target Target) map[string]any {
	option := map[string]any{}
	for name, o := range r.Options {
		if option[name] = set[name]; o.Default.Bool {
			option[name] = set[name] == "true"
		}
	}
	return map[string]any{
		"option":  option,
		"target":  map[string]any{"name": target.Name, "arch": target.Arch, "system": target.System},
		"version": r.Version,
		"compare": version.Compare,
	}
}

// Bounds on a condition: bytes, and parts.
const (
	maxCondition = 4096
	maxParts     = 500
	// maxConditions bounds how many a recipe has: each is tried with the values
	// of its options.
	maxConditions = 1000
)

// functions are those of the expression language that a condition can call. It
// has others that loop, and could take any time and memory.
var functions = map[string]bool{"len": true, "lower": true, "upper": true, "trim": true, "hasPrefix": true, "hasSuffix": true, "compare": true}

// bounds looks for what takes more time than a condition's length tells.
type bounds struct{ found string }

func (b *bounds) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.BuiltinNode:
		if !functions[n.Name] {
			b.found = n.Name
		}
	case *ast.CallNode:
		if f, ok := n.Callee.(*ast.IdentifierNode); !ok || !functions[f.Value] {
			b.found = n.Callee.String()
		}
	case *ast.PredicateNode:
		b.found = "a predicate"
	case *ast.BinaryNode:
		if n.Operator == ".." || n.Operator == "**" || n.Operator == "^" {
			b.found = n.Operator
		}
	}
}

// compile reads a condition.
func (r *Recipe) compile(condition string, target Target) (*vm.Program, error) {
	if len(condition) > maxCondition {
		return nil, fmt.Errorf("it has %d bytes, and %d is the most that is read", len(condition), maxCondition)
	}
	if tree, err := parser.Parse(condition); err == nil {
		var b bounds
		ast.Walk(&tree.Node, &b)
		if b.found != "" {
			return nil, fmt.Errorf("%s is not for conditions", b.found)
		}
	}
	return expr.Compile(condition, expr.Env(r.environment(r.Set, target)), expr.AsBool(), expr.MaxNodes(maxParts))
}

// holds reports whether a condition holds; mistakes in it are recorded. A
// condition that cannot hold for any values of the options is one.
func (r *Recipe) holds(condition string, target Target, path ...any) bool {
	n := r.Doc.Find(path...)
	if n == nil || n.Kind != document.String || condition == "" {
		return true
	}
	program, err := r.compile(condition, target)
	if err != nil {
		at, message := n.Value, err.Error()
		var e *file.Error
		if errors.As(err, &e) {
			at, message = r.Doc.Inside(n, e.From, max(e.To-e.From, 1)), e.Message
		}
		r.Doc.Add(at, "this condition cannot be read: "+message, `it is an expression such as option.tls, target.arch == "x86_64" or compare(version, "2.0") >= 0`)
		return false
	}
	for _, name := range unknownOptions(condition, r.Options) {
		r.Doc.Add(n.Value, fmt.Sprintf("the recipe has no option %q", name), r.nearOption(name))
		return false
	}
	if n.Text != "" && r.conditions >= maxConditions {
		r.Doc.Add(n.Value, fmt.Sprintf("it has more than %d conditions", maxConditions), "")
		return false
	}
	r.conditions++
	result, err := expr.Run(program, r.environment(r.Set, target))
	if err != nil {
		if len(r.Doc.Problems) == 0 { // or an option itself is wrong
			r.Doc.Add(n.Value, "this condition cannot be worked out: "+err.Error(), "")
		}
		return false
	}
	if result == true {
		return true
	}
	if !r.canHold(condition, target) {
		r.Doc.Add(n.Value, "this condition never holds, whatever the options are", "correct it, or remove what depends on it")
	}
	return false
}

func (r *Recipe) nearOption(name string) string {
	names := slices.Sorted(maps.Keys(r.Options))
	if near := fact.Nearest(name, names); near != "" {
		return "did you mean option." + near + "?"
	}
	return "declare it: [option." + name + "]"
}

// used finds the names that a condition looks up.
type used struct {
	options map[string]bool
	other   bool // the target or the version
}

func (u *used) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.MemberNode:
		if base, ok := n.Node.(*ast.IdentifierNode); ok && base.Value == "option" {
			if property, ok := n.Property.(*ast.StringNode); ok {
				u.options[property.Value] = true
			}
		}
	case *ast.IdentifierNode:
		u.other = u.other || n.Value == "target" || n.Value == "version"
	}
}

func namesIn(condition string) used {
	u := used{options: map[string]bool{}}
	if tree, err := parser.Parse(condition); err == nil {
		ast.Walk(&tree.Node, &u)
	}
	return u
}

func unknownOptions(condition string, options map[string]Option) []string {
	var unknown []string
	for name := range namesIn(condition).options {
		if _, ok := options[name]; !ok {
			unknown = append(unknown, name)
		}
	}
	slices.Sort(unknown)
	return unknown
}

// maxTried bounds how many combinations of options are tried.
const maxTried = 1024

// canHold tries a condition with all values of its options. Where it depends on
// more than those, or they can be anything, it is taken to hold at times.
func (r *Recipe) canHold(condition string, target Target) bool {
	u := namesIn(condition)
	if u.other {
		return true
	}
	tries := []Values{maps.Clone(r.Set)}
	for name := range u.options {
		o := r.Options[name]
		values := o.Choices
		if o.Default.Bool {
			values = []string{"true", "false"}
		}
		if len(values) == 0 || len(tries)*len(values) > maxTried {
			return true
		}
		var more []Values
		for _, t := range tries {
			for _, v := range values {
				with := maps.Clone(t)
				with[name] = v
				more = append(more, with)
			}
		}
		tries = more
	}
	program, err := r.compile(condition, target)
	if err != nil {
		return true
	}
	for _, t := range tries {
		if result, err := expr.Run(program, r.environment(t, target)); err != nil || result == true {
			return true
		}
	}
	return false
}

// decide drops what stands under a condition that does not hold, and adds the
// needs under those that do.
func (r *Recipe) decide(target Target) {
	for i, w := range r.Needs.When {
		if r.holds(w.If, target, "needs", "when", i, "if") {
			r.Needs.Build = append(r.Needs.Build, w.Build...)
			r.Needs.Test = append(r.Needs.Test, w.Test...)
			r.Needs.Run = append(r.Needs.Run, w.Run...)
		}
	}
	var sources []Source
	for i, s := range r.Sources {
		if r.holds(s.If, target, "source", i, "if") {
			s.Place, s.If = i, ""
			sources = append(sources, s)
		}
	}
	r.Sources = sources
	var patches []Patch
	for i, p := range r.Patches {
		if r.holds(p.If, target, "patch", i, "if") {
			p.Line, _ = r.Doc.Position(r.Doc.At("patch", i).Offset)
			patches = append(patches, p)
		}
	}
	var rewrites []Rewrite
	for i, w := range r.Rewrites {
		if r.holds(w.If, target, "rewrite", i, "if") {
			w.Line, _ = r.Doc.Position(r.Doc.At("rewrite", i).Offset)
			rewrites = append(rewrites, w)
		}
	}
	r.Patches, r.Rewrites = patches, rewrites
	r.decidePackages(target)
}

// decidePackages drops packages, and what is in them, under conditions that
// do not hold.
func (r *Recipe) decidePackages(target Target) {
	for _, name := range r.PackageNames() {
		p := r.Packages[name]
		if !r.holds(p.If, target, "package", name, "if") {
			if len(r.Packages) == 1 {
				r.Doc.Add(r.Doc.At("package", name, "if"), "with these options and this target, the recipe makes no package at all", "leave one package without a condition")
				return
			}
			delete(r.Packages, name)
			continue
		}
		maps.DeleteFunc(p.Layout, func(path string, e Entry) bool {
			return !r.holds(e.If, target, "package", name, "layout", path, "if")
		})
		maps.DeleteFunc(p.Accounts, func(account string, a Account) bool {
			return !r.holds(a.If, target, "package", name, "account", account, "if")
		})
		if !r.holds(p.Scripts.If, target, "package", name, "script", "if") {
			p.Scripts = Scripts{}
		}
		kept := p.Refresh[:0:0]
		for i, refresh := range p.Refresh {
			if r.holds(refresh.If, target, "package", name, "refresh", i, "if") {
				refresh.If = ""
				kept = append(kept, refresh)
			}
		}
		p.Refresh = kept
		p.If, p.Scripts.If = "", ""
		for path, e := range p.Layout {
			e.If = ""
			p.Layout[path] = e
		}
		for account, a := range p.Accounts {
			a.If = ""
			p.Accounts[account] = a
		}
		r.Packages[name] = p
	}
}
