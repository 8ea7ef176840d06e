package bom

import (
	"bytes"
	"cmp"
	"crypto/sha1"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spdx/tools-golang/spdx/v2/common"
	"github.com/spdx/tools-golang/spdx/v2/v2_3"

	"ellwand.example/core/fact"
	"ellwand.example/core/inspect/license"
)

// SPDXType is the media type of an SPDX document in JSON.
const SPDXType = "application/spdx+json"

// SPDX writes the bill in the form of SPDX 2.3 (ISO/IEC 5962), in JSON.
func (b *Bill) SPDX() ([]byte, error) {
	w := &spdxWriter{bill: b, ids: map[string]common.ElementID{}, taken: map[common.ElementID]bool{}}
	w.document = &v2_3.Document{
		SPDXVersion: v2_3.Version, DataLicense: v2_3.DataLicense, SPDXIdentifier: "DOCUMENT", DocumentName: strings.TrimSuffix(b.Subject.Name+"-"+b.Subject.Version, "-"),
		DocumentNamespace: "urn:uuid:" + b.uuid(),
		CreationInfo:      &v2_3.CreationInfo{Created: b.created().Format(time.RFC3339), Creators: []common.Creator{{CreatorType: "Tool", Creator: "Ellwand-" + b.Tool}}},
	}
	w.subject()
	needs := b.dependencies()
	for _, p := range b.Packages {
		w.pkg(p)
	}
	for _, p := range b.Packages {
		for _, id := range needs[p.Facts.Identity()] {
			w.relate(w.ids[p.Facts.Identity()], "DEPENDS_ON", w.ids[id], "")
		}
	}
	slices.SortFunc(w.document.OtherLicenses, func(a, b *v2_3.OtherLicense) int { return strings.Compare(a.LicenseIdentifier, b.LicenseIdentifier) })
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	err := e.Encode(w.document)
	return out.Bytes(), err
}

type spdxWriter struct {
	bill     *Bill
	document *v2_3.Document
	ids      map[string]common.ElementID // of packages by identity, of sources and modules by package URL
	taken    map[common.ElementID]bool
	main     common.ElementID // of the subject
}

// id is an identifier that nothing else has: letters, digits, . and - (SPDX 2.3, 7.2).
func (w *spdxWriter) id(words ...string) common.ElementID {
	clean := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '.' || r == '-' {
			return r
		}
		return '-'
	}, strings.Join(words, "-"))
	id := common.ElementID(clean)
	for n := 2; w.taken[id]; n++ {
		id = common.ElementID(fmt.Sprintf("%s-%d", clean, n))
	}
	w.taken[id] = true
	return id
}

func (w *spdxWriter) relate(a common.ElementID, kind string, b common.ElementID, comment string) {
	w.document.Relationships = append(w.document.Relationships, &v2_3.Relationship{
		RefA: common.MakeDocElementID("", string(a)), RefB: common.MakeDocElementID("", string(b)), Relationship: kind, RelationshipComment: comment,
	})
}

// subject adds the element that the document describes, unless that is its only package.
func (w *spdxWriter) subject() {
	s := w.bill.Subject
	if s.Kind == KindPackage && len(w.bill.Packages) == 1 {
		return
	}
	w.main = w.id(s.Kind, s.Name)
	p := &v2_3.Package{
		PackageName: s.Name, PackageVersion: s.Version, PackageSPDXIdentifier: w.main, PackageDownloadLocation: "NOASSERTION", PackageSummary: s.Summary,
		PackageLicenseConcluded: "NOASSERTION", PackageLicenseDeclared: "NOASSERTION", PackageCopyrightText: "NOASSERTION",
		PrimaryPackagePurpose:     map[string]string{KindImage: "CONTAINER", KindRoot: "OPERATING-SYSTEM", KindChannel: "OTHER"}[s.Kind],
		IsFilesAnalyzedTagPresent: true,
	}
	if s.SHA256 != "" {
		p.PackageChecksums = []common.Checksum{{Algorithm: common.SHA256, Value: s.SHA256}}
	}
	w.document.Packages = append(w.document.Packages, p)
	w.relate("DOCUMENT", "DESCRIBES", w.main, "")
}

// pkg adds a package with its files, sources and modules.
func (w *spdxWriter) pkg(p Package) {
	f := p.Facts
	id := w.id("package", f.Name, f.Full().String(), f.Arch)
	w.ids[f.Identity()] = id
	one := &v2_3.Package{
		PackageName: f.Name, PackageVersion: f.Full().String(), PackageSPDXIdentifier: id, PackageFileName: f.FileName(), PackageDownloadLocation: "NOASSERTION",
		PackageHomePage: f.Homepage, PackageSummary: f.Summary, PackageDescription: f.Description, PackageCopyrightText: "NOASSERTION",
		PackageLicenseDeclared: w.licensed(f.License), PackageLicenseConcluded: w.licensed(p.Concluded), PrimaryPackagePurpose: "APPLICATION",
		PackageSourceInfo: sourceInfo(p), IsFilesAnalyzedTagPresent: true,
		PackageExternalReferences: []*v2_3.PackageExternalReference{{Category: common.CategoryPackageManager, RefType: common.TypePackageManagerPURL, Locator: p.PURL()}},
	}
	if p.SHA256 != "" {
		one.PackageChecksums = []common.Checksum{{Algorithm: common.SHA256, Value: p.SHA256}}
	}
	if f.Maintainer != "" {
		one.PackageSupplier = &common.Supplier{SupplierType: "Organization", Supplier: f.Maintainer}
	}
	if len(p.Files) > 0 {
		one.FilesAnalyzed = true
		one.PackageVerificationCode = &common.PackageVerificationCode{Value: verificationCode(p.Files)}
		one.PackageLicenseInfoFromFiles = []string{"NOASSERTION"}
	}
	w.document.Packages = append(w.document.Packages, one)
	if w.main == "" {
		w.main = id
		w.relate("DOCUMENT", "DESCRIBES", id, "")
	} else {
		w.relate(w.main, "CONTAINS", id, "")
	}
	for _, file := range p.Files {
		fileID := w.id("file", f.Name, file.SHA256[:16])
		w.document.Files = append(w.document.Files, &v2_3.File{
			FileName: "." + strings.ToValidUTF8(file.Path, "?"), FileSPDXIdentifier: fileID, LicenseConcluded: "NOASSERTION", LicenseInfoInFiles: []string{"NOASSERTION"}, FileCopyrightText: "NOASSERTION",
			Checksums: []common.Checksum{{Algorithm: common.SHA1, Value: file.SHA1}, {Algorithm: common.SHA256, Value: file.SHA256}},
		})
		w.relate(id, "CONTAINS", fileID, "")
	}
	for _, s := range p.sources() {
		source := w.source(s, "SOURCE")
		w.relate(id, "GENERATED_FROM", source, "")
		for _, m := range s.Modules {
			w.relate(source, "CONTAINS", w.source(m, "LIBRARY"), "")
		}
	}
	for _, n := range p.buildNeeds() {
		w.relate(w.buildTool(n), "BUILD_DEPENDENCY_OF", id, n[0])
	}
}

// sourceInfo says what a package was built from.
func sourceInfo(p Package) string {
	if p.Build == nil {
		return ""
	}
	text := "built by Ellwand " + p.Build.Ellwand + " from the recipe " + p.Facts.Recipe + ", SHA-256 " + p.Build.Recipe
	if at := p.Build.Revision; at != nil {
		text += ", commit " + at.Commit
		if !at.Clean {
			text += " and edits after it"
		}
	}
	return text
}

// source adds a source or a module, once.
func (w *spdxWriter) source(s Source, purpose string) common.ElementID {
	if id, ok := w.ids[s.PURL]; ok {
		return id
	}
	id := w.id(strings.ToLower(purpose), s.Name, s.Version)
	w.ids[s.PURL] = id
	one := &v2_3.Package{
		PackageName: s.Name, PackageVersion: s.Version, PackageSPDXIdentifier: id, PackageDownloadLocation: cmp.Or(s.URL, "NOASSERTION"), PackageCopyrightText: "NOASSERTION",
		PackageLicenseDeclared: w.licensed(s.License), PackageLicenseConcluded: "NOASSERTION", PrimaryPackagePurpose: purpose, IsFilesAnalyzedTagPresent: true,
		PackageExternalReferences: []*v2_3.PackageExternalReference{{Category: common.CategoryPackageManager, RefType: common.TypePackageManagerPURL, Locator: s.PURL}},
	}
	if s.SHA256 != "" {
		one.PackageChecksums = []common.Checksum{{Algorithm: common.SHA256, Value: s.SHA256}}
	}
	w.document.Packages = append(w.document.Packages, one)
	return id
}

// buildTool adds what met a need of a build, once.
func (w *spdxWriter) buildTool(n [2]string) common.ElementID {
	name := n[1]
	if !strings.Contains(name, "@") { // the system: what it is of it that was needed
		name = n[0] + " of the " + n[1]
	}
	if id, ok := w.ids[n[1]]; ok {
		return id
	}
	if id, ok := w.ids["build "+name]; ok {
		return id
	}
	id := w.id("build", name)
	w.ids["build "+name] = id
	w.document.Packages = append(w.document.Packages, &v2_3.Package{
		PackageName: name, PackageSPDXIdentifier: id, PackageDownloadLocation: "NOASSERTION", PackageCopyrightText: "NOASSERTION", PackageLicenseDeclared: "NOASSERTION", PackageLicenseConcluded: "NOASSERTION",
		IsFilesAnalyzedTagPresent: true,
	})
	return id
}

// licensed is a license expression; a module's own words become a reference to them.
func (w *spdxWriter) licensed(expression string) string {
	if expression == "" || len(license.Check(expression)) == 0 {
		return asserted(expression)
	}
	id := "LicenseRef-" + fact.SHA256([]byte(expression))[:12]
	if !slices.ContainsFunc(w.document.OtherLicenses, func(l *v2_3.OtherLicense) bool { return l.LicenseIdentifier == id }) {
		w.document.OtherLicenses = append(w.document.OtherLicenses, &v2_3.OtherLicense{LicenseIdentifier: id, ExtractedText: expression, LicenseName: "NOASSERTION"})
	}
	return id
}

// verificationCode is that of SPDX 2.3, 7.9: the SHA-1 of the sorted SHA-1s.
func verificationCode(files []File) string {
	var sums []string
	for _, f := range files {
		sums = append(sums, f.SHA1)
	}
	slices.Sort(sums)
	sum := sha1.Sum([]byte(strings.Join(sums, "")))
	return hex.EncodeToString(sum[:])
}
