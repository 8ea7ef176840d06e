package storage

import (
	"fmt"
	"net/url"
	"strings"

	"ellwand.example/core/fact"
)

// Open returns the storage at a path or URL:
//
//	DIR, file:///DIR                      a directory
//	http://HOST/PATH, https://…           a web server, read-only
//	s3+https://HOST/BUCKET/PATH, s3+http  a bucket of a server that speaks S3
//
// It does not access the storage yet.
func Open(address string) (Storage, error) {
	if !fact.IsRemote(address) {
		return NewDirectory(fact.LocalPath(address)), nil
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return nil, fmt.Errorf("%q is not the address of a repository", address)
	}
	switch u.Scheme {
	case "http", "https":
		return Web{strings.TrimSuffix(address, "/")}, nil
	case "s3+http", "s3+https":
		return newBucket(u)
	}
	return nil, fmt.Errorf("%s: a repository is in a directory, or at http://…, https://… or s3+https://HOST/BUCKET", address)
}
