package root

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/staging"
)

// optional are the kinds of path that a root can be without.
var optional = []string{fact.KindDocumentation, fact.KindTranslation}

// CheckWithout checks what is to be left out: "documentation", "translation", or
// "translation=LANGUAGE".
func CheckWithout(words []string) error {
	for _, w := range words {
		kind, language, has := strings.Cut(w, "=")
		if !slices.Contains(optional, kind) || has && (kind != fact.KindTranslation || language == "") {
			return fact.Errorf(fact.StatusUsage, "%q cannot be left out: name documentation, translation, or translation=LANGUAGE", w)
		}
	}
	return nil
}

// wanted leaves out the entries that the root is to be without, and directories of
// that kind. Hard links and copies refer to entries that are there.
func (s Settings) wanted(entries []ell.Entry) []ell.Entry {
	if len(s.Without) == 0 {
		return entries
	}
	return ell.Standalone(slices.DeleteFunc(slices.Clone(entries), func(e ell.Entry) bool {
		return slices.ContainsFunc(s.Without, func(w string) bool {
			kind, language, has := strings.Cut(w, "=")
			return e.Kind == kind && (!has || languageOf(e.Path) == language)
		})
	}))
}

// languageOf is the language of a translation: the directory below /usr/share/locale
// or a directory of man pages (FHS 3.0, 4.11.6 and 4.11.9).
func languageOf(p string) string {
	parts := strings.Split(p, "/")
	for i, name := range parts[:len(parts)-1] {
		if (name == "locale" || name == "man" || name == "help") && i+1 < len(parts) {
			return parts[i+1]
		}
	}
	return strings.TrimSuffix(path.Base(p), path.Ext(p))
}

// staysInPlace reports whether what is on disk at an entry is left alone by an upgrade:
// the program's own data.
func staysInPlace(e ell.Entry) bool {
	return (e.Kind == fact.KindState || e.Kind == fact.KindCache) && e.Type != staging.Directory
}

// sameFile reports whether two versions of a path are the same on disk.
func sameFile(a, b ell.Entry) bool {
	if a.Type != b.Type || a.Mode != b.Mode || a.Owner != b.Owner || a.Group != b.Group || a.SHA256 != b.SHA256 || a.Link != b.Link || len(a.Xattrs) != len(b.Xattrs) {
		return false
	}
	for name, value := range a.Xattrs {
		if string(b.Xattrs[name]) != string(value) {
			return false
		}
	}
	return true
}

// Problem is something that prevents a transaction.
type Problem struct {
	Package string `json:"package,omitempty"`
	Path    string `json:"path,omitempty"`
	Message string `json:"message"`
	Remedy  string `json:"remedy,omitempty"`
	// Adopt means that naming Path to be adopted would solve it.
	Adopt bool `json:"adopt,omitempty"`
}

func (p Problem) String() string {
	if p.Path != "" {
		return fmt.Sprintf("%s: %s", p.Path, p.Message)
	}
	return fmt.Sprintf("%s: %s", p.Package, p.Message)
}

// UnfitError lists what prevents a transaction. Nothing was changed.
type UnfitError struct{ Problems []Problem }

func (e *UnfitError) Error() string {
	if len(e.Problems) == 1 {
		return e.Problems[0].String()
	}
	return fmt.Sprintf("%s, and %s", e.Problems[0], fact.Count(len(e.Problems)-1, "other problem", "other problems"))
}

// Status is that of findings.
func (e *UnfitError) Status() fact.Status { return fact.StatusFindings }
