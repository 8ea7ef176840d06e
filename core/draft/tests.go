package draft

import (
	"fmt"
	"path"
	"regexp"
	"strings"
	"time"

	"ellwand.example/core/engine/build"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
)

// testTime is how long the source's own tests may take in a draft.
const testTime = 10 * time.Minute

// maxLeftOut is up to how many tests are left out by name; more than these fail for a reason
// that they have in common.
const maxLeftOut = 20

// withoutFailing leaves out the tests that failed, if the method can tell them from the
// others, and all of them otherwise.
func (t *Trials) withoutFailing(step *build.StepError) string {
	f := t.Facts
	if script := t.testsBut(step.Tests); script != "" && len(step.Tests) <= maxLeftOut && f.Steps[recipe.Test] == "" && t.once("failing tests") {
		f.Steps[recipe.Test] = "# These of the source's own tests fail in a build:\n" + script
		return "these tests are left out: " + strings.Join(step.Tests, ", ")
	}
	why := "The source's own tests fail in a build; fix what they need, and"
	if len(step.Tests) > 0 {
		why = fmt.Sprintf("The source's own tests fail in a build (%s);\n# fix what they need, and", strings.Join(step.Tests[:min(len(step.Tests), maxLeftOut)], ", "))
	}
	return t.leaveOutTests(why + "\n# take this out:")
}

// testsBut is a script of the test step without some tests; empty if the method has no way
// to leave these out.
func (t *Trials) testsBut(tests []string) string {
	if len(tests) == 0 {
		return ""
	}
	for _, name := range tests {
		if !testName.MatchString(name) {
			return ""
		}
	}
	script := strings.TrimSpace(recipe.MethodScript(t.Facts.Method, recipe.Test, t.Facts.Configure))
	switch t.Facts.Method {
	case "cmake":
		var names []string
		for _, name := range tests {
			names = append(names, regexp.QuoteMeta(name))
		}
		return script + " --exclude-regex '^(" + strings.Join(names, "|") + ")$'"
	case "autotools":
		var names []string
		for _, name := range tests {
			// As the makefile of each directory calls them.
			names = append(names, name)
			if base := path.Base(name); base != name {
				names = append(names, base)
			}
		}
		return script + " XFAIL_TESTS='" + strings.Join(names, " ") + "'"
	case "perl":
		out := script + ` TEST_FILES="$(ls t/*.t | grep -vxF`
		for _, name := range tests {
			out += " -e " + name
		}
		return out + `)"`
	}
	return ""
}

var testName = pattern.New(`^[\w./+-]+$`)

// leaveOutTests makes the test step do nothing, with a comment that says why.
func (t *Trials) leaveOutTests(why string) string {
	if !t.once("tests") {
		return ""
	}
	f := t.Facts
	script := f.Steps[recipe.Test]
	if script == "" {
		script = recipe.MethodScript(f.Method, recipe.Test, f.Configure)
	}
	f.Steps[recipe.Test] = "# " + why + "\n#   " + strings.ReplaceAll(strings.TrimSpace(script), "\n", "\n#   ") + "\ntrue"
	return "the tests are left out, with a comment"
}
