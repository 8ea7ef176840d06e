package bump

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/mod/module"

	"ellwand.example/core/credential"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/version"
	"ellwand.example/core/files"
	"ellwand.example/core/httpclient"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe"
	"ellwand.example/core/source"
)

// Checker asks upstream for versions.
type Checker struct {
	// Registries are the addresses of registries of modules, by language.
	Registries map[string]string
	// Cache is a directory for answers, which are asked for again after Fresh.
	Cache string
	Fresh time.Duration
}

// Checked is what upstream has.
type Checked struct {
	Recipe  string   `json:"recipe"`
	Version string   `json:"version"`          // that the recipe is at
	Newest  string   `json:"newest,omitempty"` // empty if that is the newest
	Newer   []string `json:"newer"`            // all that are newer, the newest first
	Place   string   `json:"place"`            // where that is announced
	Error   string   `json:"error,omitempty"`
}

// place is somewhere that versions are announced, with the pattern that they have there.
type place struct {
	address string
	list    func(ctx context.Context) ([]string, error) // names that may have a version in them
	match   *regexp.Regexp
}

// ErrNoPlace says that nothing tells where versions are announced.
var ErrNoPlace = fact.Errorf(fact.StatusInput, "not known where to ask: add [upstream]")

// Check asks for versions of a recipe that are newer than its own. Unfinished ones are left
// out, unless the recipe is at such a one.
func (c *Checker) Check(ctx context.Context, r *recipe.Recipe) (Checked, error) {
	out := Checked{Recipe: r.Name, Version: r.Version, Newer: []string{}}
	p, err := c.place(r)
	if err != nil {
		return out, err
	}
	out.Place = p.address
	names, err := c.cached(ctx, p)
	if err != nil {
		return out, err
	}
	for _, name := range names {
		m := p.match.FindStringSubmatch(name)
		if m == nil {
			continue
		}
		v := strings.ReplaceAll(strings.ReplaceAll(m[1], "_", "."), "-", ".")
		if !version.Valid(v) || unfinished.MatchString(v) && !unfinished.MatchString(r.Version) || slices.Contains(out.Newer, v) {
			continue
		}
		if version.Compare(v, r.Version) > 0 {
			out.Newer = append(out.Newer, v)
		}
	}
	slices.SortFunc(out.Newer, func(a, b string) int { return version.Compare(b, a) })
	if len(out.Newer) > 0 {
		out.Newest = out.Newer[0]
	}
	return out, nil
}

// unfinished matches versions that come before a release.
var unfinished = pattern.New(`(?i)(alpha|beta|rc|pre|dev|snapshot|test|git)`)

// place finds where the versions of a recipe are announced: what [upstream] says, or where
// its first source is from.
func (c *Checker) place(r *recipe.Recipe) (place, error) {
	u := r.Upstream
	switch {
	case u.Git != "":
		return gitPlace(u.Git, matching(cmp.Or(u.Match, r.Version), r.Version)), nil
	case u.Page != "":
		return c.pagePlace(u.Page, matching(cmp.Or(u.Match, r.Version), r.Version)), nil
	case u.Package != "":
		return c.packagePlace(u.Package)
	}
	for _, s := range r.Sources {
		switch {
		case s.Git != "" && s.Tag != "":
			return gitPlace(s.Git, matching(cmp.Or(u.Match, s.Tag), r.Version)), nil
		case strings.HasPrefix(s.URL, "http"):
			page, name, ok := listing(s.URL, r.Version)
			if ok {
				return c.pagePlace(page, matching(cmp.Or(u.Match, name), r.Version)), nil
			}
		}
	}
	return place{}, ErrNoPlace
}

// matching is the pattern of names like one that has the version in it.
func matching(name, v string) *regexp.Regexp {
	before, after, ok := strings.Cut(name, v)
	if !ok || before == "" && after == "" {
		return regexp.MustCompile(`^v?([0-9][0-9A-Za-z._~+-]*)$`)
	}
	// What follows the first occurrence may have the version in it again.
	end := regexp.QuoteMeta(after)
	end = strings.ReplaceAll(end, regexp.QuoteMeta(v), `[0-9A-Za-z._~+-]*`)
	return regexp.MustCompile(`^` + regexp.QuoteMeta(before) + `([0-9][0-9A-Za-z._~+]*(?:-[0-9A-Za-z.]+)?)` + end + `$`)
}

// listing is the page that lists the directory, or the file, of an address with the version
// in its name.
func listing(address, v string) (page, name string, ok bool) {
	u, err := url.Parse(address)
	if err != nil {
		return "", "", false
	}
	parts := strings.Split(u.Path, "/")
	at := slices.IndexFunc(parts, func(p string) bool { return strings.Contains(p, v) })
	if at < 1 {
		return "", "", false
	}
	u.Path, u.RawPath, u.RawQuery = strings.Join(parts[:at], "/")+"/", "", ""
	return u.String(), parts[at], true
}

func gitPlace(address string, match *regexp.Regexp) place {
	return place{address, func(ctx context.Context) ([]string, error) { return source.Tags(ctx, address) }, match}
}

// linked matches the address of a link in a page (HTML).
var linked = pattern.New(`(?i)\bhref\s*=\s*["']?([^"'\s>]+)`)

func (c *Checker) pagePlace(address string, match *regexp.Regexp) place {
	return place{address, func(ctx context.Context) ([]string, error) {
		text, err := get(ctx, address)
		if err != nil {
			return nil, err
		}
		var names []string
		for _, m := range linked.FindAllStringSubmatch(string(text), maxNames) {
			link, err := url.PathUnescape(m[1])
			if err != nil {
				continue
			}
			link, _, _ = strings.Cut(link, "?")
			link, _, _ = strings.Cut(link, "#")
			if name := path.Base(strings.TrimSuffix(link, "/")); name != "." {
				names = append(names, name)
			}
		}
		return names, nil
	}, match}
}

// packagePlace asks the registry of a language.
func (c *Checker) packagePlace(address string) (place, error) {
	kind, name, _ := strings.Cut(strings.TrimPrefix(address, "pkg:"), "/")
	name, _, _ = strings.Cut(name, "@")
	name, err := url.PathUnescape(name)
	if err != nil {
		return place{}, fact.Errorf(fact.StatusInput, "%q is not a package URL", address)
	}
	language := map[string]string{"golang": "go", "npm": "npm"}[kind]
	registry := strings.TrimSuffix(c.Registries[language], "/")
	if registry == "" {
		return place{}, fact.Errorf(fact.StatusInput, "no registry of %s is configured: name one in the workspace's [sources.registry]", language)
	}
	p := place{address: address, match: matching("", "")}
	if language == "npm" {
		p.list = func(ctx context.Context) ([]string, error) {
			data, err := get(ctx, registry+"/"+strings.ReplaceAll(name, "/", "%2f"))
			if err != nil {
				return nil, err
			}
			var answer struct {
				Versions map[string]struct{} `json:"versions"`
			}
			if err := json.Unmarshal(data, &answer); err != nil {
				return nil, fmt.Errorf("%s: the registry's answer is no JSON: %w", address, err)
			}
			var names []string
			for v := range answer.Versions {
				names = append(names, v)
			}
			slices.Sort(names)
			return names, nil
		}
		return p, nil
	}
	escaped, err := module.EscapePath(name)
	if err != nil {
		return place{}, fact.Errorf(fact.StatusInput, "%q is not the path of a module of Go", name)
	}
	p.list = func(ctx context.Context) ([]string, error) {
		data, err := get(ctx, registry+"/"+escaped+"/@v/list")
		return strings.Fields(string(data)), err
	}
	return p, nil
}

// Bounds on what upstream answers.
const (
	maxAnswer = 64 << 20 // bytes
	maxNames  = 100_000
)

// get asks a server for a page.
func get(ctx context.Context, address string) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	if err := credential.Authorize(req, ""); err != nil {
		return nil, err
	}
	res, err := httpclient.Do(req, httpclient.Stall)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, &source.HTTPError{URL: req.URL.Redacted(), Code: res.StatusCode, Login: req.Header.Get("Authorization") != ""}
	}
	return io.ReadAll(httpclient.Limit(res.Body, req.URL.Redacted(), maxAnswer))
}

// cached lists the names at a place, as they were asked for not long ago.
func (c *Checker) cached(ctx context.Context, p place) ([]string, error) {
	file := filepath.Join(c.Cache, fact.SHA256([]byte(p.address))[:32]+".json")
	if info, err := os.Stat(file); err == nil && time.Since(info.ModTime()) < c.Fresh {
		var names []string
		if data, err := os.ReadFile(file); err == nil && json.Unmarshal(data, &names) == nil {
			return names, nil
		}
	}
	names, err := p.list(ctx)
	if err != nil {
		return nil, err
	}
	names = names[:min(len(names), maxNames)]
	data, err := json.Marshal(names)
	if err != nil {
		return nil, err
	}
	return names, errors.Join(os.MkdirAll(c.Cache, 0o755), files.Write(file, data))
}
