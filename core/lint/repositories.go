package lint

// repositoryRules are about channels of repositories; the gate of a publish
// and the audit find them.
var repositoryRules = []Rule{
	{
		Code: "P601", Severity: Error, Title: "a need that nothing meets",
		Why:    "Nobody can install the package, or upgrade with it: neither another package of the channel nor the base has what it needs.",
		Remedy: "publish what it needs together with it; where a library has a new soname, build again what uses it, and publish all in one step",
	},
	{
		Code: "P602", Severity: Error, Title: "a path in two packages",
		Why:    "Whoever installs both has the file of one of them, and which one is chance.",
		Remedy: "move the file into one of them; or say that they are never together: `conflicts`, or `replaces` where one takes the place of the other",
	},
	{
		Code: "P603", Severity: Error, Title: "back in version",
		Why:    "Machines that have the newer one do not go back: they would never see what is published now.",
		Remedy: "raise the version or release; `epoch` outranks versions that were a mistake; `ellwand rewind` brings a whole channel back",
	},
	{
		Code: "P604", Severity: Error, Title: "a package that cannot be installed",
		Why:    "There is no set of packages with it in which everything has what it needs and nothing conflicts.",
		Remedy: "mend what the proof names: publish what is missing, or loosen the bound or the conflict",
	},
	{
		Code: "P605", Severity: Hint, Title: "packages that need each other",
		Why:    "They can only be installed and taken away together, and none of them is ever first: their install scripts cannot count on each other.",
		Remedy: "put what they share into a package of its own, or make one need a suggestion",
	},
	{
		Code: "P606", Severity: Hint, Title: "a library that nobody needs",
		Why:    "It may be left over from something that is gone, or belong to programs that are not packaged.",
		Remedy: "`ellwand retire` takes it out, if it has no users of its own",
	},
}
