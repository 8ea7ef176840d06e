package draft

import (
	"strings"
	"testing"

	"ellwand.example/core/engine/build"
	"ellwand.example/core/recipe"
)

// Commands that steps ran become needs, of the tests if these alone ran them; what only a
// configuration looked for does not, and what nothing ran goes.
func TestLearnCommands(t *testing.T) {
	used := func(name string, steps ...string) build.Undeclared {
		return build.Undeclared{Need: name, Steps: steps}
	}
	f := Facts{Build: []string{"command/c++", "command/make", "pkgconfig/harmonic"}}
	trials := &Trials{Facts: &f}
	report := &build.NeedsReport{
		Unused: []string{"command/c++", "pkgconfig/harmonic"},
		Undeclared: []build.Undeclared{
			used("command/ed", recipe.Build), used("command/makeinfo", recipe.Prepare, recipe.Stage), used("command/expect", recipe.Test),
			used("command/gawk", recipe.Prepare), used("command/git", recipe.Build), used("command/x86_64-linux-gnu-gcc", recipe.Build), used("header/harmonic.h", recipe.Build),
		},
	}
	if !trials.learnCommands(report) {
		t.Error("nothing was learned")
	}
	if got := strings.Join(f.Build, " ") + " | " + strings.Join(f.Test, " "); got != "command/ed command/make command/makeinfo pkgconfig/harmonic | command/expect" {
		t.Error(got)
	}
	if trials.learnCommands(&build.NeedsReport{}) || trials.learnCommands(&build.NeedsReport{Undeclared: []build.Undeclared{used("command/ed", recipe.Build)}}) {
		t.Error("something was learned of nothing new")
	}
}
