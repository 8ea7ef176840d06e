package bom

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// ProvenanceType is the media type of an in-toto statement.
const ProvenanceType = "application/vnd.in-toto+json"

// The types of a statement (in-toto attestation framework 1.0) and of its predicate (SLSA 1.0,
// Provenance). They are few and plain, so that no library is needed for them.
const (
	statementType = "https://in-toto.io/Statement/v1"
	predicateType = "https://slsa.dev/provenance/v1"
	buildType     = "https://ellwand.example/build/v1"
)

type resource struct {
	URI         string            `json:"uri,omitempty"`
	Name        string            `json:"name,omitempty"`
	Digest      map[string]string `json:"digest,omitempty"`
	Annotations map[string]string `json:"annotations,omitempty"`
}

type statement struct {
	Type          string     `json:"_type"`
	Subject       []resource `json:"subject"`
	PredicateType string     `json:"predicateType"`
	Predicate     provenance `json:"predicate"`
}

type provenance struct {
	BuildDefinition buildDefinition `json:"buildDefinition"`
	RunDetails      runDetails      `json:"runDetails"`
}

type buildDefinition struct {
	BuildType            string         `json:"buildType"`
	ExternalParameters   map[string]any `json:"externalParameters"`
	InternalParameters   map[string]any `json:"internalParameters,omitempty"`
	ResolvedDependencies []resource     `json:"resolvedDependencies,omitempty"`
}

type runDetails struct {
	Builder builder `json:"builder"`
}

type builder struct {
	ID      string            `json:"id"`
	Version map[string]string `json:"version,omitempty"`
}

// Provenance writes how a package was built, as an in-toto statement with the predicate of SLSA
// 1.0. It is not signed.
func (p Package) Provenance() ([]byte, error) {
	s := statement{
		Type: statementType, PredicateType: predicateType,
		Subject: []resource{{Name: p.Facts.FileName(), Digest: map[string]string{"sha256": p.SHA256}}},
		Predicate: provenance{
			BuildDefinition: buildDefinition{BuildType: buildType, ExternalParameters: map[string]any{"recipe": p.Facts.Recipe, "target": p.Facts.Target}},
			RunDetails:      runDetails{builder{ID: buildType, Version: map[string]string{}}},
		},
	}
	d := &s.Predicate.BuildDefinition
	if b := p.Build; b != nil {
		s.Predicate.RunDetails.Builder.Version["ellwand"] = b.Ellwand
		if len(b.Options) > 0 {
			d.ExternalParameters["options"] = b.Options
		}
		d.InternalParameters = map[string]any{"isolation": b.Isolation}
		if len(b.Allow) > 0 {
			d.InternalParameters["allow"] = b.Allow
		}
		recipe := resource{Name: "recipe.toml", Digest: map[string]string{"sha256": b.Recipe}}
		if b.Revision != nil {
			recipe.Digest["gitCommit"] = b.Revision.Commit
		}
		d.ResolvedDependencies = append(d.ResolvedDependencies, recipe)
		for _, name := range slices.Sorted(maps.Keys(b.Files)) {
			d.ResolvedDependencies = append(d.ResolvedDependencies, resource{Name: name, Digest: map[string]string{"sha256": b.Files[name]}})
		}
		for i, source := range p.sources() {
			one := resource{URI: source.URL, Name: source.Name, Digest: map[string]string{}}
			if source.SHA256 != "" {
				one.Digest["sha256"] = source.SHA256
			}
			if commit := b.Sources[i].Commit; commit != "" {
				one.Digest["gitCommit"] = commit
			}
			d.ResolvedDependencies = append(d.ResolvedDependencies, one)
		}
		for _, n := range p.buildNeeds() {
			one := resource{Name: n[0], Annotations: map[string]string{"from": n[1]}}
			if name, version, ok := strings.Cut(n[1], "@"); ok {
				one.URI = purl("generic", name, version, nil)
			}
			d.ResolvedDependencies = append(d.ResolvedDependencies, one)
		}
	}
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	err := e.Encode(s)
	return out.Bytes(), err
}
