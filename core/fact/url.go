package fact

import (
	"net/url"
	"strings"
)

// IsRemote reports whether a place is the URL of a server, and not a directory
// or a file: URL (RFC 8089).
func IsRemote(place string) bool {
	return strings.Contains(place, "://") && !strings.HasPrefix(place, "file://")
}

// LocalPath is the path that a place names which is not remote.
func LocalPath(place string) string {
	if u, err := url.Parse(place); err == nil && u.Scheme == "file" {
		return u.Path
	}
	return place
}
