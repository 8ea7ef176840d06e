package draft

import (
	"cmp"
	"encoding/json"
	"encoding/xml"
	"html"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"go.yaml.in/yaml/v3"

	"ellwand.example/core/inspect/license"
	"ellwand.example/core/pattern"
)

// stated is what a file that describes a source says of it.
type stated struct {
	name, version, summary, homepage string
	license                          string // in the words of the file
}

// manifests are the files that describe a source, in the order in which they are believed,
// with what reads them.
var manifests = []struct {
	file string
	read func(text string) stated
}{
	{"configure", readConfigure},
	{"meson.build", readMeson},
	{"CMakeLists.txt", readCMake},
	{"pyproject.toml", readPyproject},
	{"setup.cfg", readSetupConfig},
	{"setup.py", readSetup},
	{"META.json", readCPAN},
	{"META.yml", readCPAN},
	{"Cargo.toml", readCargo},
	{"package.json", readNode},
	{"DESCRIPTION", readDescription},
	{"pom.xml", readMaven},
	{"composer.json", readNode},
	{"go.mod", readGo},
}

// stated collects what the source's own files say of it.
func (t *tree) stated() (all stated) {
	take := func(s stated) {
		all.name, all.version = cmp.Or(all.name, s.name), cmp.Or(all.version, s.version)
		all.summary, all.homepage = cmp.Or(all.summary, s.summary), cmp.Or(all.homepage, address(s.homepage))
		all.license = cmp.Or(all.license, s.license)
	}
	for _, m := range manifests {
		if text := t.read(m.file); text != "" {
			take(m.read(text))
		}
	}
	for _, file := range t.glob("*.gemspec") {
		take(readGemspec(t.read(file)))
	}
	return all
}

// moduleSummary takes the description in a pkg-config module of the source, at any
// depth: the one named like the source first.
func (t *tree) moduleSummary(name string) (summary, homepage string) {
	files := t.glob("*.pc.in", "*/*.pc.in", "*/*/*.pc.in", "*/*/*/*.pc.in", "*.pc.cmake", "*/*.pc.cmake")
	for _, own := range []bool{true, false} {
		for _, file := range files {
			base, _, _ := strings.Cut(path.Base(file), ".pc.")
			if isNamed := strings.TrimPrefix(base, "lib") == strings.TrimPrefix(name, "lib"); isNamed != own {
				continue
			}
			text := t.read(file)
			summary = cmp.Or(summary, first(text, `(?m)^Description:[ \t]*(.+)$`))
			homepage = cmp.Or(homepage, address(first(text, `(?m)^URL:[ \t]*(https?://\S+)$`)))
		}
		if summary != "" {
			break
		}
	}
	return summary, homepage
}

// first is the first group of a pattern in a text; empty if it is a variable.
func first(text, expression string) string {
	m := regexp.MustCompile(expression).FindStringSubmatch(text)
	if m == nil || strings.ContainsAny(m[1], "$@") {
		return ""
	}
	return strings.TrimSpace(m[1])
}

func readConfigure(text string) stated {
	return stated{name: first(text, `(?m)^PACKAGE_TARNAME='([^']+)'`), version: first(text, `(?m)^PACKAGE_VERSION='([^']+)'`), homepage: first(text, `(?m)^PACKAGE_URL='(https?://[^']+)'`)}
}

var majorVersion = pattern.New(`/v[0-9]+$`)

// readGo reads the path of a module, which is where it is from.
func readGo(text string) stated {
	module := majorVersion.ReplaceAllString(first(text, `(?m)^module\s+"?([\w./~-]+)`), "")
	if host, _, ok := strings.Cut(module, "/"); !ok || !strings.Contains(host, ".") {
		return stated{name: module}
	}
	return stated{name: path.Base(module), homepage: "https://" + module}
}

func readMeson(text string) stated {
	return stated{
		name: first(text, `project\s*\(\s*'([^']+)'`), version: first(text, `(?s)project\s*\([^)]*?\bversion\s*:\s*'([^']+)'`),
		summary: first(text, `(?s)\bdescription\s*:\s*'([^'\n]+)'`), license: first(text, `(?s)project\s*\([^)]*?\blicense\s*:\s*\[?\s*'([^']+)'`),
	}
}

func readCMake(text string) stated {
	return stated{
		name: first(text, `(?i)\bproject\s*\(\s*"?([\w.+-]+)`), version: first(text, `(?is)\bproject\s*\([^)]*?\bVERSION\s+"?([\d.]+)`),
		summary:  first(text, `(?is)\bproject\s*\([^)]*?\bDESCRIPTION\s+"([^"]+)"`),
		homepage: first(text, `(?is)\bproject\s*\([^)]*?\bHOMEPAGE_URL\s+"([^"]+)"`),
	}
}

// readPyproject reads the tables of PEP 621, and those of tools that came before it.
func readPyproject(text string) stated {
	type project struct {
		Name        string            `toml:"name"`
		Version     string            `toml:"version"`
		Description string            `toml:"description"`
		License     any               `toml:"license"`
		Homepage    string            `toml:"homepage"`
		URLs        map[string]string `toml:"urls"`
		Classifiers []string          `toml:"classifiers"`
	}
	var doc struct {
		Project project            `toml:"project"`
		Tool    map[string]project `toml:"tool"`
	}
	// Tables of tools that have other types there do not matter.
	if err := toml.Unmarshal([]byte(text), &doc); err != nil {
		var only struct {
			Project project `toml:"project"`
		}
		if toml.Unmarshal([]byte(text), &only) != nil {
			return stated{}
		}
		doc.Project = only.Project
	}
	p := doc.Project
	if p.Name == "" {
		for _, tool := range []string{"poetry", "flit"} {
			if doc.Tool[tool].Name != "" {
				p = doc.Tool[tool]
			}
		}
	}
	out := stated{name: p.Name, version: p.Version, summary: p.Description, homepage: p.Homepage}
	for name, link := range p.URLs {
		if strings.EqualFold(name, "homepage") || strings.EqualFold(name, "home") {
			out.homepage = cmp.Or(out.homepage, link)
		}
	}
	out.license = cmp.Or(licenseText(p.License, "text"), classifiedLicense(strings.Join(p.Classifiers, "\n")))
	return out
}

var classifier = pattern.New(`License :: OSI Approved :: ([^"'\n]+)`)

// classifiedLicense is the license that a Python distribution is classified with.
func classifiedLicense(text string) string {
	all := classifier.FindAllStringSubmatch(text, -1)
	if len(all) != 1 {
		return ""
	}
	return strings.TrimSpace(all[0][1])
}

func readSetupConfig(text string) stated {
	_, metadata, ok := strings.Cut(text, "[metadata]")
	if !ok {
		return stated{}
	}
	metadata, _, _ = strings.Cut(metadata, "\n[")
	get := func(key string) string {
		v := first(metadata, `(?mi)^`+key+`\s*[=:]\s*(\S.*)$`)
		if strings.HasPrefix(v, "file:") || strings.HasPrefix(v, "attr:") {
			return ""
		}
		return v
	}
	return stated{
		name: get("name"), version: get("version"), summary: cmp.Or(get("description"), get("summary")), homepage: cmp.Or(get("url"), get("home[-_]page")),
		license: cmp.Or(get("license"), classifiedLicense(metadata)),
	}
}

func readSetup(text string) stated {
	get := func(key string) string {
		return cmp.Or(first(text, `(?m)\b`+key+`\s*=\s*u?"([^"\n]+)"`), first(text, `(?m)\b`+key+`\s*=\s*u?'([^'\n]+)'`), first(text, `(?m)["']`+key+`["']\s*:\s*u?["']([^"'\n]+)["']`))
	}
	return stated{name: get("name"), version: get("version"), summary: get("description"), homepage: get("url"), license: cmp.Or(get("license"), classifiedLicense(text))}
}

// readCPAN reads META.json or META.yml of a Perl distribution: JSON is YAML too.
func readCPAN(text string) stated {
	var m struct {
		Name      string `yaml:"name"`
		Version   any    `yaml:"version"`
		Abstract  string `yaml:"abstract"`
		License   any    `yaml:"license"`
		Resources struct {
			Homepage any `yaml:"homepage"`
		} `yaml:"resources"`
	}
	if yaml.Unmarshal([]byte(text), &m) != nil {
		return stated{}
	}
	out := stated{name: m.Name, summary: m.Abstract}
	switch v := m.Version.(type) {
	case string:
		out.version = strings.TrimPrefix(v, "v")
	case int, float64:
		// As a number, it has lost the zeros at its end.
		out.version = first(text, `(?m)^"?version"?\s*:\s*([\d._]+)\s*,?\s*$`)
	}
	if link, ok := m.Resources.Homepage.(string); ok {
		out.homepage = link
	}
	out.license = licenseText(m.License, "")
	if strings.EqualFold(out.summary, "unknown") {
		out.summary = ""
	}
	return out
}

func readCargo(text string) stated {
	type table struct {
		Name        any `toml:"name"`
		Version     any `toml:"version"`
		Description any `toml:"description"`
		License     any `toml:"license"`
		Homepage    any `toml:"homepage"`
		Repository  any `toml:"repository"`
	}
	var m struct {
		Package   table `toml:"package"`
		Workspace struct {
			Package table `toml:"package"`
		} `toml:"workspace"`
	}
	if toml.Unmarshal([]byte(text), &m) != nil {
		return stated{}
	}
	either := func(own, workspace any) string {
		for _, v := range []any{own, workspace} {
			if s, ok := v.(string); ok && s != "" {
				return s
			}
		}
		return ""
	}
	p, w := m.Package, m.Workspace.Package
	return stated{
		name: either(p.Name, nil), version: either(p.Version, w.Version), summary: either(p.Description, w.Description),
		homepage: cmp.Or(either(p.Homepage, w.Homepage), either(p.Repository, w.Repository)),
		license:  strings.ReplaceAll(either(p.License, w.License), "/", " OR "),
	}
}

func readNode(text string) stated {
	var m struct {
		Name        string `json:"name"`
		Version     string `json:"version"`
		Description string `json:"description"`
		Homepage    any    `json:"homepage"`
		License     any    `json:"license"`
	}
	if json.Unmarshal([]byte(text), &m) != nil {
		return stated{}
	}
	out := stated{name: m.Name[strings.LastIndexByte(m.Name, '/')+1:], version: m.Version, summary: m.Description}
	out.homepage, _ = m.Homepage.(string)
	out.license = licenseText(m.License, "type")
	return out
}

// licenseText is the license in a manifest's value: a text, a table with it under a key, or
// a list of one.
func licenseText(v any, key string) string {
	switch l := v.(type) {
	case string:
		return l
	case map[string]any:
		s, _ := l[key].(string)
		return s
	case []any:
		if len(l) == 1 {
			return licenseText(l[0], key)
		}
	}
	return ""
}

// readDescription reads the file of that name of an R package.
func readDescription(text string) stated {
	get := func(key string) string {
		return strings.Join(strings.Fields(first(text, `(?m)^`+key+`:[ \t]*(.+(?:\n[ \t]+.+)*)`)), " ")
	}
	link, _, _ := strings.Cut(get("URL"), ",")
	return stated{name: get("Package"), version: get("Version"), summary: get("Title"), homepage: link, license: get("License")}
}

func readMaven(text string) stated {
	var m struct {
		ArtifactID  string `xml:"artifactId"`
		Version     string `xml:"version"`
		Name        string `xml:"name"`
		Description string `xml:"description"`
		URL         string `xml:"url"`
		Licenses    []struct {
			Name string `xml:"name"`
		} `xml:"licenses>license"`
	}
	if xml.Unmarshal([]byte(text), &m) != nil {
		return stated{}
	}
	out := stated{name: m.ArtifactID, version: m.Version, summary: strings.Join(strings.Fields(m.Description), " "), homepage: strings.TrimSpace(m.URL)}
	if len(m.Licenses) == 1 {
		out.license = m.Licenses[0].Name
	}
	if strings.Contains(out.version, "$") {
		out.version = ""
	}
	return out
}

func readGemspec(text string) stated {
	get := func(key string) string { return first(text, `(?m)\.`+key+`\s*=\s*["']([^"'\n]+)["']`) }
	return stated{name: get("name"), version: get("version"), summary: get("summary"), homepage: get("homepage"), license: cmp.Or(get("license"), first(text, `(?m)\.licenses\s*=\s*\[?\s*["']([^"'\]\n]+)["']\s*\]?\s*$`))}
}

// knownLicenses are licenses as manifests write them in words, in small letters, as SPDX
// expressions. What stands for several licenses, such as BSD or GPL, is none.
var knownLicenses = map[string]string{
	"apache 2": "Apache-2.0", "apache 2.0": "Apache-2.0", "apache-2": "Apache-2.0", "apache license 2.0": "Apache-2.0", "apache license, version 2.0": "Apache-2.0", "apache software license": "Apache-2.0",
	"the apache software license, version 2.0": "Apache-2.0", "apache license (== 2.0)": "Apache-2.0", "apache_2_0": "Apache-2.0",
	"mit license": "MIT", "the mit license": "MIT", "mit + file license": "MIT", "expat": "MIT", "mit": "MIT",
	"isc license": "ISC", "isc license (iscl)": "ISC", "isc": "ISC",
	"gplv2": "GPL-2.0-only", "gplv2+": "GPL-2.0-or-later", "gpl-2": "GPL-2.0-only", "gpl (>= 2)": "GPL-2.0-or-later", "gpl_2": "GPL-2.0-only", "gnu general public license v2 (gplv2)": "GPL-2.0-only",
	"gnu general public license v2 or later (gplv2+)": "GPL-2.0-or-later", "gplv3": "GPL-3.0-only", "gplv3+": "GPL-3.0-or-later", "gpl-3": "GPL-3.0-only", "gpl (>= 3)": "GPL-3.0-or-later", "gpl_3": "GPL-3.0-only",
	"gnu general public license v3 (gplv3)": "GPL-3.0-only", "gnu general public license v3 or later (gplv3+)": "GPL-3.0-or-later",
	"lgpl-2.1": "LGPL-2.1-only", "lgpl_2_1": "LGPL-2.1-only", "lgpl_3_0": "LGPL-3.0-only", "lgpl-3": "LGPL-3.0-only",
	"gnu lesser general public license v3 (lgplv3)": "LGPL-3.0-only", "gnu lesser general public license v3 or later (lgplv3+)": "LGPL-3.0-or-later",
	"mozilla public license 2.0 (mpl 2.0)": "MPL-2.0", "mpl 2.0": "MPL-2.0", "mpl-2": "MPL-2.0", "mozilla_1_1": "MPL-1.1",
	"bsd 3-clause": "BSD-3-Clause", "bsd-3": "BSD-3-Clause", "3-clause bsd": "BSD-3-Clause", "3-clause bsd license": "BSD-3-Clause", "bsd 3-clause license": "BSD-3-Clause", "bsd_3_clause + file license": "BSD-3-Clause", "bsd 2-clause": "BSD-2-Clause",
	"bsd_2_clause + file license": "BSD-2-Clause", "2-clause bsd": "BSD-2-Clause", "freebsd": "BSD-2-Clause",
	"perl": "Artistic-1.0-Perl OR GPL-1.0-or-later", "perl_5": "Artistic-1.0-Perl OR GPL-1.0-or-later", "artistic_1": "Artistic-1.0", "artistic_2": "Artistic-2.0",
	"python software foundation license": "PSF-2.0", "psf": "PSF-2.0", "zlib": "Zlib", "zlib/libpng license": "Zlib", "the unlicense (unlicense)": "Unlicense", "public domain": "",
}

// expression makes an SPDX expression of a license as a manifest writes it; empty for
// what is not one license for sure.
func (s stated) expression() string {
	text := strings.Join(strings.Fields(s.license), " ")
	if known, ok := knownLicenses[strings.ToLower(text)]; ok {
		return known
	}
	if text == "" || len(license.Check(text)) > 0 || len(license.Deprecated(text)) > 0 {
		return ""
	}
	return text
}

// phrase makes a summary of a line from a manifest: in plain text, without the name before
// it.
func phrase(s string) string {
	s = plain(html.UnescapeString(s))
	if before, what, ok := strings.Cut(strings.Replace(s, " -- ", " - ", 1), " - "); ok && !strings.Contains(before, " ") {
		s = what // the name stands before it
	}
	return shortened(sentence(s))
}

// longSummary is from how many characters on a summary is cut, at the end of a phrase.
const longSummary = 100

var phraseEnd = pattern.New(`\. |; |, (?:and|which|with|written|designed|that|for|including)\b| \(`)

// phraseJoints are where a phrase could end if need be, the better ones first.
var phraseJoints = []pattern.Pattern{
	pattern.New(` (?:that|which|designed|written|intended|meant|aimed|using|based on|including|as well as|so that|in order to|for use)\b`),
	pattern.New(`,? (?:and|with|by) `),
}

// shortened cuts a summary that is too long for lists where a phrase ends.
func shortened(s string) string {
	if len(s) <= longSummary {
		return s
	}
	best := ""
	for _, m := range phraseEnd.FindAllStringIndex(s, -1) {
		if m[0] <= longSummary && m[0] >= 10 {
			best = s[:m[0]]
		}
	}
	if best != "" {
		return best
	}
	for _, joint := range phraseJoints {
		for _, m := range joint.FindAllStringIndex(s, -1) {
			if m[0] <= longSummary && m[0] >= 15 {
				return s[:m[0]]
			}
		}
	}
	return s
}

// nodePrograms lists the commands of a Node package: name and file.
func nodePrograms(text string) (out [][2]string) {
	var m struct {
		Name string `json:"name"`
		Bin  any    `json:"bin"`
	}
	if json.Unmarshal([]byte(text), &m) != nil {
		return nil
	}
	add := func(name, file string) {
		file = path.Clean(file)
		if plainName.MatchString(name) && plainName.MatchString(strings.ReplaceAll(file, "/", "")) && !strings.HasPrefix(file, "..") && !path.IsAbs(file) {
			out = append(out, [2]string{name, file})
		}
	}
	switch b := m.Bin.(type) {
	case string:
		add(path.Base(m.Name), b)
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(b)) {
			if file, ok := b[name].(string); ok {
				add(name, file)
			}
		}
	}
	return out
}

// plainName is a name that needs no quotes anywhere.
var plainName = pattern.New(`^[\w.+@-]+$`)
