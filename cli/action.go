package cli

import (
	"cmp"
	"fmt"

	"ellwand.example/core/fact"
)

// commandFor is the command line that does an action.
func commandFor(a fact.Action) string {
	recipe, repository := cmp.Or(a.Subject, "RECIPE"), cmp.Or(a.Subject, "REPO")
	switch a.Verb {
	case fact.Build:
		return "ellwand build " + recipe
	case fact.BuildUntil:
		return fmt.Sprintf("ellwand build %s --until %s", recipe, a.Detail)
	case fact.FetchSources:
		return "ellwand fetch " + recipe
	case fact.PinSources:
		return fmt.Sprintf("ellwand fetch %s --pin", recipe)
	case fact.RaiseRelease:
		return fmt.Sprintf("ellwand bump %s --release", recipe)
	case fact.StartWorkspace:
		return "ellwand init"
	case fact.StartRepository:
		return fmt.Sprintf("ellwand publish PACKAGE... --to %s --new", repository)
	case fact.ShowHistory:
		return fmt.Sprintf("ellwand history %s --channel %s", repository, a.Detail)
	case fact.WatchNeeds:
		return fmt.Sprintf("ellwand build %s --needs-report", recipe)
	case fact.ShowPlan:
		return "ellwand plan"
	case fact.Verify:
		return "ellwand verify " + repository
	case fact.MakeIndex:
		return "ellwand index " + repository
	case fact.Prune:
		return "ellwand prune " + repository
	case fact.ForgetSeen:
		return fmt.Sprintf("ellwand sync %s --forget", repository)
	case fact.CreateRoot:
		return "ellwand root create " + cmp.Or(a.Subject, "DIR")
	case fact.ShowRootHistory:
		return "ellwand root history " + cmp.Or(a.Subject, "DIR")
	case fact.FinishRoot:
		return "ellwand root finish " + cmp.Or(a.Subject, "DIR")
	case fact.MakeImage:
		return "ellwand image " + cmp.Or(a.Subject, "NAME")
	case fact.UpdateImage:
		return fmt.Sprintf("ellwand image %s --update", cmp.Or(a.Subject, "NAME"))
	case fact.WithoutIsolation:
		return "ellwand build RECIPE --isolation none"
	}
	panic("unknown action " + string(a.Verb))
}

// advice says what an action is for, with its command.
func advice(a fact.Action) string {
	c := "`" + commandFor(a) + "`"
	switch a.Verb {
	case fact.Build:
		return c + " builds it"
	case fact.BuildUntil:
		return c + " leaves the tree to look at"
	case fact.FetchSources:
		return c + " fetches the sources and prints their digests"
	case fact.PinSources:
		return c + " adds the digests to the recipe"
	case fact.RaiseRelease:
		return c + " raises the release only"
	case fact.StartWorkspace:
		return c + " starts a workspace; `--workspace DIR` uses another one"
	case fact.StartRepository:
		return "to start a repository there, add --new: " + c
	case fact.ShowHistory:
		return c + " lists the retained states"
	case fact.Verify:
		return c + " lists what is damaged"
	case fact.ForgetSeen:
		return "if the repository was started again on purpose, " + c + " forgets what was seen of it; otherwise ask its maintainer"
	case fact.CreateRoot:
		return c + " makes it one"
	case fact.ShowRootHistory:
		return c + " lists the changes"
	case fact.FinishRoot:
		return c + " runs it again"
	case fact.MakeImage:
		return c + " makes it"
	case fact.UpdateImage:
		return c + " chooses the newest packages, and shows what changes"
	case fact.WithoutIsolation:
		return "ask the machine's administrator to allow user namespaces. Or run the steps without a sandbox, with --isolation none: they can then write wherever you can, which the package records and lint reports"
	}
	return "next: " + c
}
