package bom

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	spdxjson "github.com/spdx/tools-golang/json"
	"github.com/spdx/tools-golang/spdx/v2/v2_3"
	"github.com/xeipuuv/gojsonschema"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
)

// many is the bill of an image with packages that need each other, with modules, sources and
// all kinds of license.
func many(n int) *Bill {
	b := &Bill{Subject: Subject{Kind: KindImage, Name: "harbour", Summary: "Tides", SHA256: strings.Repeat("e", 64)}, Tool: "0.1.0"}
	for i := range n {
		name := fmt.Sprintf("tide%03d", i)
		p := Package{SHA256: fact.SHA256([]byte(name)), Concluded: []string{"", "MIT", "MIT AND Zlib"}[i%3], Asked: i == 0}
		p.Facts = ell.Facts{Name: name, Version: "1.0", Release: i%3 + 1, Epoch: i % 2, Arch: []string{"x86_64", fact.Independent}[i%2], Target: "saltmarsh-7", Summary: "Tides \"of\" the <quay>", License: "MIT OR Apache-2.0", Recipe: name, Date: fmt.Sprintf("2031-04-%02d", i%28+1), Maintainer: "Ines <ines@saltmarsh.example>", Homepage: "https://tides.example/"}
		if i > 0 {
			needed, _ := need.Parse(fmt.Sprintf("tide%03d >= 1", i/2))
			p.Facts.Needs = []ell.Need{{Need: needed}}
		}
		p.Build = &ell.BuildRecord{Ellwand: "0.1.0", Recipe: strings.Repeat("a", 64), Files: map[string]string{"a.patch": strings.Repeat("b", 64)}, Needs: map[string]string{"command/cc": "system", "tide": "tide000@1-1"}, Isolation: "namespaces", Options: map[string]string{"feet": "false"}, Revision: &ell.Revision{Commit: strings.Repeat("c", 40), Clean: i%2 == 0}, Sources: []ell.SourceRecord{
			{Name: name + ".tar.gz", SHA256: strings.Repeat("d", 64)},
			{Name: name + " modules", SHA256: fact.SHA256([]byte("m" + name)), Modules: []fact.Module{{Name: "@salt/tide", Version: "1.0.0", URL: "pkg:npm/%40salt/tide@1.0.0", License: "Salt License, see LICENSE"}, {Name: "pad", Version: "2.0.0", URL: "pkg:npm/pad@2.0.0"}}},
			{Name: "almanac", Commit: strings.Repeat("f", 40)},
		}}
		p.URLs = map[string]string{strings.Repeat("d", 64): "https://files.saltmarsh.example/" + name + ".tar.gz", strings.Repeat("f", 40): "https://git.saltmarsh.example/almanac.git"}
		for k := range 3 {
			p.Files = append(p.Files, File{fmt.Sprintf("/usr/share/%s/a file %d", name, k), strings.Repeat(fmt.Sprint(k), 40), strings.Repeat(fmt.Sprint(k), 64)})
		}
		b.Packages = append(b.Packages, p)
	}
	return b
}

// cycloneSchema is the official one, from the specification's own files.
func cycloneSchema(t *testing.T) *gojsonschema.Schema {
	t.Helper()
	l := gojsonschema.NewSchemaLoader()
	for _, name := range []string{"spdx.schema.json", "jsf-0.82.schema.json"} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			t.Fatal(err)
		}
		if err := l.AddSchemas(gojsonschema.NewBytesLoader(data)); err != nil {
			t.Fatal(err)
		}
	}
	data, err := os.ReadFile("testdata/bom-1.6.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	s, err := l.Compile(gojsonschema.NewBytesLoader(data))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// bills are of all kinds.
func bills() []*Bill {
	one := many(1)
	one.Subject = Subject{Kind: KindPackage, Name: "tide000", Version: "1.0-1"}
	bare := many(3)
	for i := range bare.Packages {
		bare.Packages[i].Build, bare.Packages[i].Files, bare.Packages[i].SHA256 = nil, nil, ""
	}
	bare.Subject = Subject{Kind: KindRoot, Name: "station"}
	return []*Bill{many(120), one, bare, {Subject: Subject{Kind: KindChannel, Name: "local", Version: "testing"}}}
}

func TestCycloneDX(t *testing.T) {
	schema := cycloneSchema(t)
	for _, b := range bills() {
		data, err := b.CycloneDX()
		if err != nil {
			t.Fatal(err)
		}
		result, err := schema.Validate(gojsonschema.NewBytesLoader(data))
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range result.Errors() {
			t.Errorf("%s: %s", b.Subject.Name, e)
		}
		again, err := b.CycloneDX()
		if err != nil || !bytes.Equal(data, again) {
			t.Errorf("%s is not the same twice: %v", b.Subject.Name, err)
		}
	}
	data, _ := many(4).CycloneDX()
	var d struct {
		Components []struct {
			Ref string `json:"bom-ref"`
		}
		Dependencies []struct {
			Ref       string
			DependsOn []string
		}
	}
	if err := json.Unmarshal(data, &d); err != nil {
		t.Fatal(err)
	}
	depends := map[string][]string{}
	for _, one := range d.Dependencies {
		depends[one.Ref] = one.DependsOn
	}
	all := many(4)
	if got := depends[all.Packages[3].PURL()]; !slices.Contains(got, all.Packages[1].PURL()) {
		t.Errorf("tide003 depends on %q", got)
	}
	if got := depends["image:harbour"]; len(got) != 4 {
		t.Errorf("the image consists of %q", got)
	}
	for _, c := range d.Components {
		if _, ok := depends[c.Ref]; !ok {
			t.Errorf("%s is in no list of dependencies", c.Ref)
		}
	}
}

// An SPDX document can be read by the library of the specification's makers, and has what
// the specification demands.
func TestSPDX(t *testing.T) {
	for _, b := range bills() {
		data, err := b.SPDX()
		if err != nil {
			t.Fatal(err)
		}
		if again, err := b.SPDX(); err != nil || !bytes.Equal(data, again) {
			t.Errorf("%s is not the same twice: %v", b.Subject.Name, err)
		}
		var d v2_3.Document
		if err := spdxjson.ReadInto(bytes.NewReader(data), &d); err != nil {
			t.Fatalf("%s: %v", b.Subject.Name, err)
		}
		checkSPDX(t, b, &d)
	}
}

func checkSPDX(t *testing.T, b *Bill, d *v2_3.Document) {
	t.Helper()
	if d.SPDXVersion != "SPDX-2.3" || d.DataLicense != "CC0-1.0" || d.DocumentNamespace == "" || len(d.CreationInfo.Creators) == 0 {
		t.Errorf("%+v", d)
	}
	if _, err := time.Parse("2006-01-02T15:04:05Z", d.CreationInfo.Created); err != nil {
		t.Error(err)
	}
	ids := map[string]bool{"DOCUMENT": true}
	add := func(id string) {
		if ids[id] {
			t.Errorf("two elements are %s", id)
		}
		ids[id] = true
	}
	described := 0
	for _, p := range d.Packages {
		add(string(p.PackageSPDXIdentifier))
		if p.PackageName == "" || p.PackageDownloadLocation == "" || p.PackageLicenseDeclared == "" || p.FilesAnalyzed != (p.PackageVerificationCode != nil) {
			t.Errorf("%+v", p)
		}
	}
	for _, f := range d.Files {
		add(string(f.FileSPDXIdentifier))
		if !strings.HasPrefix(f.FileName, "./") || f.Checksums[0].Algorithm != "SHA1" {
			t.Errorf("%+v", f)
		}
	}
	kinds := map[string]int{}
	for _, r := range d.Relationships {
		kinds[r.Relationship]++
		if !ids[string(r.RefA.ElementRefID)] || !ids[string(r.RefB.ElementRefID)] {
			t.Errorf("%s %s %s: one of them is not there", r.RefA.ElementRefID, r.Relationship, r.RefB.ElementRefID)
		}
		if r.Relationship == "DESCRIBES" {
			described++
		}
	}
	if described != 1 {
		t.Errorf("the document of %s describes %d elements", b.Subject.Name, described)
	}
	if len(b.Packages) > 100 && (kinds["DEPENDS_ON"] != len(b.Packages)-1 || kinds["GENERATED_FROM"] < len(b.Packages) || kinds["BUILD_DEPENDENCY_OF"] == 0 || kinds["CONTAINS"] == 0 || len(d.OtherLicenses) != 1) {
		t.Errorf("%v, %d licenses", kinds, len(d.OtherLicenses))
	}
}

// What is between the bytes of a package and its bill: digests, and the license of its texts.
func TestRead(t *testing.T) {
	dir := t.TempDir()
	mit, err := os.ReadFile("../../demo/workspace/recipes/tide-almanac/COPYING")
	if err != nil {
		t.Fatal(err)
	}
	spec := ell.Spec{Facts: ell.Facts{Name: "tide", Version: "1", Release: 1, Arch: "x86_64", Target: "saltmarsh-7", Summary: "x", License: "MIT", Recipe: "tide", Date: "2031-04-02"}, Time: time.Unix(1e9, 0)}
	for name, text := range map[string][]byte{"/usr/bin/tide": []byte("tide"), "/usr/bin/tyde": []byte("tide"), "/usr/share/licenses/tide/COPYING": mit} {
		host := filepath.Join(dir, filepath.Base(name))
		os.WriteFile(host, text, 0o644)
		c := staging.Claim{Path: staging.Path{Path: name, Type: staging.File, Mode: 0o644, Size: int64(len(text)), Disk: host}, Owner: "root", Group: "root"}
		if strings.HasSuffix(name, "COPYING") {
			c.Kind = fact.KindLicense
		}
		spec.Claims = append(spec.Claims, c)
	}
	slices.SortFunc(spec.Claims, func(a, b staging.Claim) int { return strings.Compare(a.Path.Path, b.Path.Path) })
	written, err := ell.Write(t.Context(), dir, spec, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	p, err := ell.Open(written.Path)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	got, err := Read(t.Context(), p, "", true)
	if err != nil || len(got.Files) != 3 || len(got.Files[0].SHA1) != 40 || got.Files[0].SHA1 != got.Files[1].SHA1 {
		t.Errorf("%+v, %v", got.Files, err)
	}
	if got.Concluded != "MIT" {
		t.Errorf("concluded %q", got.Concluded)
	}
	if less, err := Read(t.Context(), p, "", false); err != nil || len(less.Files) != 0 || less.Concluded != "MIT" {
		t.Errorf("%+v, %v", less, err)
	}
}

func TestProvenance(t *testing.T) {
	data, err := many(1).Packages[0].Provenance()
	if err != nil {
		t.Fatal(err)
	}
	var s struct {
		Type          string `json:"_type"`
		PredicateType string
		Subject       []struct{ Digest map[string]string }
		Predicate     struct {
			BuildDefinition struct {
				BuildType            string
				ExternalParameters   map[string]any
				ResolvedDependencies []struct {
					Name, URI string
					Digest    map[string]string
				}
			}
			RunDetails struct{ Builder struct{ ID string } }
		}
	}
	if err := json.Unmarshal(data, &s); err != nil {
		t.Fatal(err)
	}
	d := s.Predicate.BuildDefinition
	if s.Type != "https://in-toto.io/Statement/v1" || s.PredicateType != "https://slsa.dev/provenance/v1" || len(s.Subject[0].Digest["sha256"]) != 64 || d.BuildType == "" || s.Predicate.RunDetails.Builder.ID == "" || d.ExternalParameters["recipe"] != "tide000" {
		t.Errorf("%s", data)
	}
	names := map[string]bool{}
	for _, one := range d.ResolvedDependencies {
		names[one.Name] = true
		if one.Name == "recipe.toml" && one.Digest["gitCommit"] == "" {
			t.Error("the recipe has no commit")
		}
	}
	for _, want := range []string{"recipe.toml", "a.patch", "tide000.tar.gz", "almanac", "command/cc", "tide"} {
		if !names[want] {
			t.Errorf("%s is not in %v", want, names)
		}
	}
}
