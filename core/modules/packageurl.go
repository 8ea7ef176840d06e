package modules

import (
	"net/url"
	"strings"
)

// packageURL writes the package URL of a module (package-url specification 1.0): the parts
// of its name are separated by slashes.
func packageURL(kind, name, version string) string {
	parts := strings.Split(name, "/")
	for i, p := range parts {
		parts[i] = strings.NewReplacer("@", "%40", "+", "%2B").Replace(url.PathEscape(p))
	}
	if kind == "golang" {
		name = strings.ToLower(strings.Join(parts, "/"))
	} else {
		name = strings.Join(parts, "/")
	}
	return "pkg:" + kind + "/" + name + "@" + strings.ReplaceAll(url.PathEscape(version), "+", "%2B")
}
