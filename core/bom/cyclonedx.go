package bom

import (
	"bytes"
	"slices"
	"strings"
	"time"

	cdx "github.com/CycloneDX/cyclonedx-go"

	"ellwand.example/core/inspect/license"
)

// CycloneDXType is the media type of a CycloneDX document in JSON.
const CycloneDXType = "application/vnd.cyclonedx+json"

// property begins the names of what CycloneDX has no field for.
const property = "ellwand:"

// CycloneDX writes the bill in the form of CycloneDX 1.6 (ECMA-424), in JSON.
func (b *Bill) CycloneDX() ([]byte, error) {
	d := cdx.NewBOM()
	d.SerialNumber = "urn:uuid:" + b.uuid()
	subject := b.cycloneSubject()
	d.Metadata = &cdx.Metadata{
		Timestamp: b.created().Format(time.RFC3339), Component: &subject,
		Tools: &cdx.ToolsChoice{Components: &[]cdx.Component{{Type: cdx.ComponentTypeApplication, Name: "Ellwand", Version: b.Tool}}},
	}
	needs := b.dependencies()
	components := []cdx.Component{}
	var top []string
	relations := map[string][]string{}
	seen := map[string]bool{}
	add := func(c cdx.Component) {
		if !seen[c.BOMRef] {
			seen[c.BOMRef] = true
			components = append(components, c)
		}
	}
	for _, p := range b.Packages {
		ref := p.PURL()
		if b.Subject.Kind != KindPackage {
			add(p.cyclone())
			top = append(top, ref)
		}
		for _, s := range p.sources() {
			add(s.cyclone())
			relations[ref] = append(relations[ref], s.PURL)
			for _, m := range s.Modules {
				add(m.cyclone())
				relations[s.PURL] = append(relations[s.PURL], m.PURL)
			}
		}
		for _, id := range needs[p.Facts.Identity()] {
			at := slices.IndexFunc(b.Packages, func(p Package) bool { return p.Facts.Identity() == id })
			relations[ref] = append(relations[ref], b.Packages[at].PURL())
		}
	}
	if b.Subject.Kind != KindPackage {
		relations[subject.BOMRef] = top
	}
	d.Components = &components
	dependencies := []cdx.Dependency{}
	for _, c := range append([]cdx.Component{subject}, components...) {
		list := slices.Compact(slices.Sorted(slices.Values(relations[c.BOMRef])))
		one := cdx.Dependency{Ref: c.BOMRef}
		if len(list) > 0 {
			one.Dependencies = &list
		}
		dependencies = append(dependencies, one)
	}
	d.Dependencies = &dependencies
	var out bytes.Buffer
	err := cdx.NewBOMEncoder(&out, cdx.BOMFileFormatJSON).SetPretty(true).SetEscapeHTML(false).EncodeVersion(d, cdx.SpecVersion1_6)
	return out.Bytes(), err
}

// cycloneSubject is the component that the bill is of.
func (b *Bill) cycloneSubject() cdx.Component {
	if b.Subject.Kind == KindPackage && len(b.Packages) == 1 {
		return b.Packages[0].cyclone()
	}
	c := cdx.Component{BOMRef: b.Subject.Kind + ":" + b.Subject.Name, Type: cdx.ComponentTypeOS, Name: b.Subject.Name, Version: b.Subject.Version, Description: b.Subject.Summary}
	if b.Subject.Kind == KindImage {
		c.Type = cdx.ComponentTypeContainer
	}
	if b.Subject.SHA256 != "" {
		c.Hashes = &[]cdx.Hash{{Algorithm: cdx.HashAlgoSHA256, Value: b.Subject.SHA256}}
	}
	return c
}

func licenses(expression string, how cdx.LicenseAcknowledgement) cdx.Licenses {
	if expression == "" {
		return nil
	}
	if len(license.Check(expression)) > 0 { // a module's own words
		return cdx.Licenses{{License: &cdx.License{Name: expression, Acknowledgement: how}}}
	}
	return cdx.Licenses{{Expression: expression, Acknowledgement: &how}}
}

// cyclone is a package as a component, with its files below it.
func (p Package) cyclone() cdx.Component {
	f := p.Facts
	c := cdx.Component{BOMRef: p.PURL(), Type: cdx.ComponentTypeApplication, Name: f.Name, Version: f.Full().String(), Description: f.Summary, PackageURL: p.PURL()}
	// An expression stands alone: the concluded one is a property if it differs.
	if l := licenses(f.License, cdx.LicenseAcknowledgementDeclared); l != nil {
		c.Licenses = &l
	}
	if p.SHA256 != "" {
		c.Hashes = &[]cdx.Hash{{Algorithm: cdx.HashAlgoSHA256, Value: p.SHA256}}
	}
	if f.Maintainer != "" {
		c.Publisher = f.Maintainer
	}
	var references []cdx.ExternalReference
	if f.Homepage != "" {
		references = append(references, cdx.ExternalReference{Type: cdx.ERTypeWebsite, URL: f.Homepage})
	}
	for _, s := range p.sources() {
		if s.URL != "" {
			references = append(references, cdx.ExternalReference{Type: cdx.ERTypeSourceDistribution, URL: s.URL})
		}
	}
	if references != nil {
		c.ExternalReferences = &references
	}
	properties := []cdx.Property{{Name: property + "target", Value: f.Target}, {Name: property + "arch", Value: f.Arch}, {Name: property + "recipe", Value: f.Recipe}, {Name: property + "license-concluded", Value: asserted(p.Concluded)}}
	if p.Build != nil {
		properties = append(properties, cdx.Property{Name: property + "recipe-sha256", Value: p.Build.Recipe})
		if p.Build.Revision != nil {
			properties = append(properties, cdx.Property{Name: property + "recipe-commit", Value: p.Build.Revision.Commit})
		}
	}
	for _, n := range p.buildNeeds() {
		properties = append(properties, cdx.Property{Name: property + "built-with", Value: n[0] + " from " + n[1]})
	}
	c.Properties = &properties
	if len(p.Files) > 0 {
		var inner []cdx.Component
		for _, file := range p.Files {
			inner = append(inner, cdx.Component{
				BOMRef: p.PURL() + "#" + file.Path, Type: cdx.ComponentTypeFile, Name: strings.ToValidUTF8(file.Path, "?"),
				Hashes: &[]cdx.Hash{{Algorithm: cdx.HashAlgoSHA1, Value: file.SHA1}, {Algorithm: cdx.HashAlgoSHA256, Value: file.SHA256}},
			})
		}
		c.Components = &inner
	}
	return c
}

// cyclone is a source or a module as a component.
func (s Source) cyclone() cdx.Component {
	c := cdx.Component{BOMRef: s.PURL, Type: cdx.ComponentTypeLibrary, Name: s.Name, Version: s.Version, PackageURL: s.PURL}
	if l := licenses(s.License, cdx.LicenseAcknowledgementDeclared); l != nil {
		c.Licenses = &l
	}
	if s.SHA256 != "" {
		c.Hashes = &[]cdx.Hash{{Algorithm: cdx.HashAlgoSHA256, Value: s.SHA256}}
	}
	if s.URL != "" {
		c.ExternalReferences = &[]cdx.ExternalReference{{Type: cdx.ERTypeDistribution, URL: s.URL}}
	}
	return c
}
