package workspace

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
	"ellwand.example/core/recipe/document"
)

// triplet is the shape of a toolchain's name.
var triplet = pattern.New(`^[a-z0-9_]+(-[a-z0-9_]+){1,3}$`)

// HostSystem names the running system.
const HostSystem = "host"

// checkTargets looks at the tables [target.NAME].
func (w *Workspace) checkTargets(doc *document.Document) {
	for name, t := range w.Settings.Targets {
		if t.System != "" && t.System != HostSystem {
			if _, err := os.Stat(w.Abs(t.System)); err != nil {
				doc.Add(doc.At("target", name, "system"), fmt.Sprintf("there is no %s", w.Abs(t.System)), `a directory or an archive with a root; system = "host" is this machine`)
			}
		}
		if t.Toolchain != "" && (!triplet.MatchString(t.Toolchain) || t.Arch == "") {
			doc.Add(doc.At("target", name, "toolchain"), fmt.Sprintf("%q does not say which toolchain builds for the target", t.Toolchain), `arch = "aarch64" and toolchain = "aarch64-linux-gnu", for a compiler that is called aarch64-linux-gnu-gcc`)
		}
		for i, r := range t.Repositories {
			if _, ok := w.Settings.Repositories[r]; !ok {
				remedy := "add a table [repository." + r + "]"
				if near := fact.Nearest(r, slices.Collect(maps.Keys(w.Settings.Repositories))); near != "" {
					remedy = fmt.Sprintf("did you mean %q?", near)
				}
				doc.Add(doc.At("target", name, "repositories", i), fmt.Sprintf("there is no repository %q", r), remedy)
			}
		}
	}
}

// UseTarget makes packages for the target of that name, with the settings of
// its table, if it has one. An empty name stands for this machine.
func (w *Workspace) UseTarget(name string) error {
	if strings.ContainsAny(name, "/ \t\n") || strings.HasPrefix(name, ".") {
		return fmt.Errorf("%q cannot be a target's name", name)
	}
	w.On = w.Settings.Targets[name]
	w.Target = recipe.Target{Name: name, Arch: w.On.Arch}
	if w.Target.Arch == "" {
		w.Target.Arch = machine()
	}
	if name == "" {
		w.Target.Name = hostRelease() + "-" + w.Target.Arch
	}
	switch w.Target.System = w.On.Release; {
	case w.Target.System != "":
	case w.On.System == "" || w.On.System == HostSystem:
		w.Target.System = releaseOf("/")
	default:
		w.Target.System = releaseOf(w.Abs(w.On.System)) // of an archive nothing is known
	}
	return nil
}

// ChooseTarget is UseTarget for a name that somebody typed: it must be one
// that the settings know.
func (w *Workspace) ChooseTarget(name string) error {
	_, known := w.Settings.Targets[name]
	if known || name == w.Target.Name {
		return w.UseTarget(name)
	}
	names := slices.Sorted(maps.Keys(w.Settings.Targets))
	if near := fact.Nearest(name, names); near != "" {
		return fmt.Errorf("there is no target %q; did you mean %q?", name, near)
	}
	if len(names) == 0 {
		return fmt.Errorf("there is no target %q: a table [target.%s] in %s would make one", name, name, SettingsFile)
	}
	return fmt.Errorf("there is no target %q; there are %s", name, strings.Join(names, ", "))
}

// Cross is the triplet of the toolchain that makes programs for the target, such as
// "aarch64-linux-gnu"; empty if the system's own compiler does.
func (w *Workspace) Cross() string {
	if w.RunsHere() {
		return ""
	}
	return w.On.Toolchain
}

// RunsHere reports whether programs of the target run on this machine.
func (w *Workspace) RunsHere() bool {
	here := machine()
	return w.Target.Arch == here || here == "x86_64" && w.Target.Arch == "i686"
}
