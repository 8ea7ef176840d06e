package draft

import "encoding/json"

// cpanMeta is what META.json of a Perl distribution says (CPAN Meta Spec 2).
type cpanMeta struct {
	Name      string   `json:"name"`
	Version   string   `json:"version"`
	Abstract  string   `json:"abstract"`
	License   []string `json:"license"`
	Resources struct {
		Homepage string `json:"homepage"`
	} `json:"resources"`
}

// cpanMeta reads META.json; its name is empty if there is none.
func (t *tree) cpanMeta() (m cpanMeta) {
	if json.Unmarshal([]byte(t.read("META.json")), &m) != nil {
		return cpanMeta{}
	}
	return m
}

// cpanLicenses are the license strings of the specification that name one license, as
// SPDX expressions.
var cpanLicenses = map[string]string{
	"perl_5": "Artistic-1.0-Perl OR GPL-1.0-or-later", "apache_2_0": "Apache-2.0", "artistic_1": "Artistic-1.0", "artistic_2": "Artistic-2.0", "bsd": "BSD-3-Clause",
	"freebsd": "BSD-2-Clause", "gpl_2": "GPL-2.0-only", "gpl_3": "GPL-3.0-only", "lgpl_2_1": "LGPL-2.1-only", "lgpl_3_0": "LGPL-3.0-only", "mit": "MIT", "mozilla_1_1": "MPL-1.1", "zlib": "Zlib",
}

// perlLicense is the license that a distribution states; empty if it states none, or
// several.
func perlLicense(stated []string) string {
	if len(stated) != 1 {
		return ""
	}
	return cpanLicenses[stated[0]]
}
