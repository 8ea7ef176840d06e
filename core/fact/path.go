package fact

// Kinds of path in a package: how an installation treats what is there.
const (
	KindConfig        = "config"        // configuration: local edits are kept
	KindDocumentation = "documentation" // may be left out of a small root
	KindLicense       = "license"       // a license text
	KindState         = "state"         // written by the program, and kept when the package is removed
	KindCache         = "cache"         // written by the program, and removed with the package
	// KindTranslation is what one language needs, and may be left out where
	// nobody uses it.
	KindTranslation = "translation"
)

// Kinds lists the kinds of path.
var Kinds = []string{KindConfig, KindDocumentation, KindLicense, KindState, KindCache, KindTranslation}
