package repo

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"

	"ellwand.example/core/fact"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

// OpenCached opens the repository at a path or URL, with a cache of its own below
// $XDG_CACHE_HOME (XDG Base Directory Specification), if there is one.
func OpenCached(place string) (*Repository, error) { return OpenAt(place, cacheFor(place)) }

func cacheFor(place string) string {
	cache, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	if !fact.IsRemote(place) {
		if abs, err := filepath.Abs(place); err == nil {
			place = abs
		}
	}
	sum := sha256.Sum256([]byte(place))
	return filepath.Join(cache, "ellwand", "repositories", fmt.Sprintf("%x", sum[:12]))
}

// OpenAt returns the repository at a path or URL (see storage.Open). It does
// not access the repository yet. Cache is as in Repository.
func OpenAt(address, cache string) (*Repository, error) {
	s, err := storage.Open(address)
	if err != nil {
		return nil, err
	}
	return &Repository{Storage: s, Cache: cache}, nil
}

// tableCache is where the tables of listings are kept.
func (r *Repository) tableCache() index.TableCache {
	if r.Cache == "" {
		return index.TableCache{}
	}
	return index.TableCache{Dir: filepath.Join(r.Cache, "tables")}
}
