// Package bom makes software bills of materials: what a package, a root, an image or a channel
// consists of, in the forms of SPDX 2.3 and CycloneDX 1.6, and how a package came to be, as
// in-toto provenance. The same input gives the same bytes.
package bom

import (
	"cmp"
	"context"
	"crypto/sha1" // SPDX 2.3 demands it of files; nothing is trusted for it
	"encoding/hex"
	"fmt"
	"io"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/package-url/packageurl-go"

	"ellwand.example/core/advisory"
	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/inspect/license"
	"ellwand.example/core/needs/solve"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/staging"
)

// Kinds of subject.
const (
	KindPackage = "package"
	KindRoot    = "root"
	KindImage   = "image"
	KindChannel = "channel"
)

// Subject is what a bill is of.
type Subject struct {
	Kind    string
	Name    string
	Version string
	Summary string
	SHA256  string // of an image's manifest or of a file; may be empty
}

// Package is a package of a bill.
type Package struct {
	Facts ell.Facts
	// Build is what it was built from; nil if that is unknown, since the package's file is not
	// there.
	Build  *ell.BuildRecord
	SHA256 string
	Asked  bool // somebody asked for it; otherwise another package needs it
	Files  []File
	// Concluded is the license that the texts in the package are those of, as an SPDX
	// expression; empty if they are not recognized.
	Concluded string
	// URLs are where sources were downloaded, by their digests or commits.
	URLs map[string]string
}

// File is a file of a package.
type File struct{ Path, SHA1, SHA256 string }

// Bill is a bill of materials.
type Bill struct {
	Subject  Subject
	Packages []Package // by name
	Tool     string    // the version of this program
}

// Read reads what a bill has of a package; files only if they are wanted.
func Read(ctx context.Context, p *ell.Package, sha256 string, withFiles bool) (Package, error) {
	out := Package{Facts: p.Facts, Build: &p.Build, SHA256: sha256}
	entries, err := p.Layout()
	if err != nil {
		return out, err
	}
	bySHA256 := map[string]string{} // SHA-1 of contents, by their SHA-256
	texts := map[string]string{}
	var chosen []ell.Entry
	for _, e := range entries {
		if e.Type == staging.File && e.Same == "" && e.Copy == "" && (withFiles || e.Kind == fact.KindLicense) {
			chosen = append(chosen, e)
		}
	}
	err = p.Contents(ctx, chosen, func(e ell.Entry, r io.Reader) error {
		h := sha1.New()
		var text strings.Builder
		if e.Kind == fact.KindLicense && e.Size <= maxLicense {
			r = io.TeeReader(r, &text)
		}
		_, err := io.Copy(h, r)
		bySHA256[e.SHA256] = hex.EncodeToString(h.Sum(nil))
		if text.Len() > 0 {
			texts[e.Path] = text.String()
		}
		return err
	})
	if err != nil {
		return out, err
	}
	out.Concluded = conclude(texts)
	if !withFiles {
		return out, nil
	}
	for _, e := range entries {
		if sum := bySHA256[e.SHA256]; e.Type == staging.File && sum != "" {
			out.Files = append(out.Files, File{e.Path, sum, e.SHA256})
		}
	}
	return out, nil
}

// maxLicense is how long a license text may be, in bytes.
const maxLicense = 1 << 20

// conclude is the license of some texts, if each of them is recognized.
func conclude(texts map[string]string) string {
	seen := map[string]bool{}
	for _, text := range texts {
		id := license.Recognise(text)
		if id == "" {
			return ""
		}
		seen[id] = true
	}
	return strings.Join(slices.Sorted(maps.Keys(seen)), " AND ")
}

// created is the time of a bill: that of the newest change of a package.
func (b *Bill) created() time.Time {
	when := time.Unix(0, 0).UTC()
	for _, p := range b.Packages {
		if date, err := time.Parse(time.DateOnly, p.Facts.Date); err == nil && date.After(when) {
			when = date
		}
	}
	return when
}

// uuid is an identifier that stands for everything in the bill (RFC 9562, version 8).
func (b *Bill) uuid() string {
	var all strings.Builder
	fmt.Fprintf(&all, "%q\n", b.Subject)
	for _, p := range b.Packages {
		fmt.Fprintf(&all, "%s %s %d\n", p.Facts.Identity(), p.SHA256, len(p.Files))
	}
	sum, _ := hex.DecodeString(fact.SHA256([]byte(all.String())))
	sum[6], sum[8] = sum[6]&0x0f|0x80, sum[8]&0x3f|0x80
	h := hex.EncodeToString(sum[:16])
	return strings.Join([]string{h[:8], h[8:12], h[12:16], h[16:20], h[20:]}, "-")
}

// PURL is the package URL of a package (package-url specification 1.0). There is no type for
// packages of this kind: it is the generic one.
func (p Package) PURL() string {
	q := map[string]string{}
	if p.Facts.Arch != fact.Independent {
		q["arch"] = p.Facts.Arch
	}
	if p.SHA256 != "" {
		q["checksum"] = "sha256:" + p.SHA256
	}
	return purl(packageurl.TypeGeneric, p.Facts.Name, p.Facts.Full().String(), q)
}

func purl(kind, name, version string, qualifiers map[string]string) string {
	return packageurl.NewPackageURL(kind, "", name, version, packageurl.QualifiersFromMap(qualifiers), "").ToString()
}

// Source is a source of a package, or a module in one.
type Source struct {
	Name, Version string
	PURL          string
	SHA256        string
	URL           string // where it was downloaded
	License       string // as a module states it
	Modules       []Source
}

// sources are those of a package.
func (p Package) sources() []Source {
	if p.Build == nil {
		return nil
	}
	var out []Source
	for _, s := range p.Build.Sources {
		one := Source{Name: s.Name, Version: cmp.Or(s.Commit, p.Facts.Version), SHA256: s.SHA256, URL: p.URLs[cmp.Or(s.SHA256, s.Commit)]}
		q := map[string]string{}
		if s.SHA256 != "" {
			q["checksum"] = "sha256:" + s.SHA256
		}
		if u, err := url.Parse(one.URL); err == nil && u.Scheme != "" && u.Scheme != "file" {
			if s.Commit != "" {
				q["vcs_url"] = "git+" + one.URL + "@" + s.Commit
			} else {
				q["download_url"] = one.URL
			}
		} else {
			one.URL = ""
		}
		one.PURL = purl(packageurl.TypeGeneric, s.Name, one.Version, q)
		for _, m := range s.Modules {
			one.Modules = append(one.Modules, Source{Name: m.Name, Version: m.Version, PURL: m.URL, License: m.License})
		}
		out = append(out, one)
	}
	return out
}

// dependencies are the packages of the bill that each package needs at run time, by its
// identity.
func (b *Bill) dependencies() map[string][]string {
	candidates := make([]*solve.Package, len(b.Packages))
	for i, p := range b.Packages {
		candidates[i] = index.RecordOf(p.Facts).Candidate()
	}
	byNeed := solve.NewIndex(candidates)
	at := map[*solve.Package]int{}
	for i, c := range candidates {
		at[c] = i
	}
	out := map[string][]string{}
	for i, c := range candidates {
		own := b.Packages[i].Facts.Identity()
		for _, n := range c.Needs {
			for _, by := range byNeed.Offering(n) {
				if id := b.Packages[at[by]].Facts.Identity(); id != own && by.Offers(n) {
					out[own] = append(out[own], id)
				}
			}
		}
		slices.Sort(out[own])
		out[own] = slices.Compact(out[own])
	}
	return out
}

// buildNeeds are the needs of a package's build, with what met each.
func (p Package) buildNeeds() [][2]string {
	if p.Build == nil {
		return nil
	}
	var out [][2]string
	for _, n := range slices.Sorted(maps.Keys(p.Build.Needs)) {
		out = append(out, [2]string{n, p.Build.Needs[n]})
	}
	return out
}

// asserted is a license expression, or what SPDX writes where nothing is known.
func asserted(expression string) string { return cmp.Or(expression, "NOASSERTION") }

// Components are what an advisory may be about: the package, by its own name and that of its
// recipe, its sources, and the modules in them.
func (p Package) Components() []advisory.Component {
	out := []advisory.Component{{PURL: purl(packageurl.TypeGeneric, p.Facts.Name, "", nil), Name: p.Facts.Name, Version: p.Facts.Version}}
	if p.Facts.Recipe != p.Facts.Name {
		out = append(out, advisory.Component{PURL: purl(packageurl.TypeGeneric, p.Facts.Recipe, "", nil), Name: p.Facts.Recipe, Version: p.Facts.Version})
	}
	for _, s := range p.sources() {
		for _, m := range s.Modules {
			out = append(out, advisory.Component{PURL: m.PURL, Name: m.Name, Version: m.Version})
		}
	}
	return out
}
