package draft

import (
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"ellwand.example/core/inspect/license"
	"ellwand.example/core/inspect/license/recognize"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe/document"
)

// licenseFiles are names that license texts go by.
var licenseFiles = pattern.New(`(?i)^(licen[cs]es?|copying|copyright|unlicense)([-._].*)?$`)

// license finds the license texts at the top of the source, and what they are.
// Where they do not tell, what is in directories and in source files is noted
// for a person to decide.
func (t *tree) license(f *Facts, own stated) error {
	notes := len(f.Notes)
	for _, name := range t.names {
		if licenseFiles.MatchString(name) && t.read(name) != "" {
			f.Texts = append(f.Texts, name)
		}
	}
	found := map[string]bool{}
	for _, name := range f.Texts {
		ids, err := recognize.Licenses([]byte(t.read(name)))
		switch {
		case err != nil:
			return err
		case len(ids) == 0:
			f.Notes = append(f.Notes, "what license "+name+" is was not recognised")
		case len(ids) > 1:
			f.Notes = append(f.Notes, name+" holds several licenses ("+strings.Join(ids, ", ")+"): say how they go together, with AND or OR")
		default:
			found[t.laterVersions(ids[0])] = true
		}
	}
	ids := slices.Sorted(maps.Keys(found))
	switch {
	case own.expression() != "" && (len(ids) != 1 || license.Mentions(own.expression(), strings.TrimSuffix(strings.TrimSuffix(ids[0], "-only"), "-or-later"))):
		f.License, f.Notes = own.expression(), f.Notes[:notes]
	case len(ids) == 1:
		f.License = ids[0]
		if own.expression() != "" {
			f.Notes = append(f.Notes, "the build files state the license "+own.expression()+", and the license text is "+ids[0])
		}
	case len(ids) > 1:
		f.License = strings.Join(ids, " AND ")
		f.Notes = append(f.Notes, "several license texts were found: "+f.License+" is the strictest reading; write OR if a user may choose")
	default:
		return t.licenseHints(f, own)
	}
	return nil
}

var spdxLine = pattern.New(`SPDX-License-Identifier:\s*([\w.+-]+(?:\s+(?:AND|OR|WITH)\s+[\w.+-]+)*)`)

// licenseHints notes what directories, source files and the build's own files say
// of the license.
func (t *tree) licenseHints(f *Facts, own stated) error {
	for _, name := range t.glob("*/*") {
		if !licenseFiles.MatchString(path.Base(name)) {
			continue
		}
		ids, err := recognize.Licenses([]byte(t.read(name)))
		if err != nil {
			return err
		}
		if len(ids) > 0 {
			f.Notes = append(f.Notes, name+" is "+strings.Join(ids, ", "))
		}
	}
	stated := map[string]bool{}
	for _, name := range t.glob("*.c", "*/*.c", "*.h", "*/*.h", "*.py", "*/*.py", "*.cc", "*/*.cc") {
		if m := spdxLine.FindStringSubmatch(t.read(name)); m != nil {
			stated[m[1]] = true
		}
	}
	if len(stated) > 0 {
		f.Notes = append(f.Notes, "source files state "+strings.Join(slices.Sorted(maps.Keys(stated)), ", "))
	}
	if own.license != "" {
		f.Notes = append(f.Notes, "the build files call the license "+document.Quote(own.license))
	}
	return nil
}

// laterVersions tells from the head of source files whether a license of the
// GNU family is meant with its later versions; the text itself does not say.
func (t *tree) laterVersions(id string) string {
	if !regexp.MustCompile(`^(A|L)?GPL-\d\.\d$`).MatchString(id) {
		return id
	}
	for _, file := range t.glob("*.c", "*/*.c", "*.h", "*/*.h", "*.py", "*/*.py", "configure.ac", "README*") {
		text := t.read(file)
		head := strings.Join(strings.Fields(strings.Map(func(r rune) rune {
			if r == '*' || r == '#' {
				return ' '
			}
			return r
		}, text[:min(len(text), 4000)])), " ")
		if strings.Contains(head, "any later version") {
			return id + "-or-later"
		}
	}
	return id + "-only"
}
