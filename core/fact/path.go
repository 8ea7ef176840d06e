package fact

import (
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

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

// IsCleanPath reports whether a path is absolute and has no empty or dotted parts,
// and no zero byte. The top directory is none.
func IsCleanPath(p string) bool {
	return strings.HasPrefix(p, "/") && p != "/" && path.Clean(p) == p && !strings.ContainsRune(p, 0)
}

// IsPathPattern reports whether a pattern of paths can be matched, in a time that is not
// absurd: each ** and each brace multiplies what has to be tried.
func IsPathPattern(p string) bool {
	return len(p) <= 4096 && strings.Count(p, "**") <= 4 && strings.Count(p, "{") <= 4 && strings.Count(p, ",") <= 100 && doublestar.ValidatePattern(p)
}
