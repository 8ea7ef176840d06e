package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
)

// A world is made-up packages whose needs have the shape of real ones: most
// are leaves that nobody needs; a few libraries are needed by very many, as
// Zipf's law has it; a third of the libraries have headers that need exactly
// their version; here and there is a choice; some needs form chains that are
// hundreds of packages long; of one in ten there is an older version too. The same number gives the same packages.

// citizen is a package of a world.
type citizen struct {
	facts ell.Facts
	paths []string
	size  int // bytes of its files
}

var words = strings.Fields("tide ebb flow buoy gauge harbour pilot chart almanac moon lunar solstice current drift shoal reef estuary delta mud salt marsh heron tern gull kelp eel oyster anchor mooring lock weir sluice dredge barge skiff lugger ketch keel tiller compass sextant lantern signal fog storm surge swell crest trough datum level station sensor record")

// world makes n packages, each of which needs only those before it.
func world(n int) []citizen {
	d := rand.New(rand.NewPCG(7, uint64(n)))
	hubs := max(5, n/100)
	zipf := rand.NewZipf(d, 1.2, 3, uint64(hubs-1))
	out := make([]citizen, 0, n)
	library := func(i int) string { return fmt.Sprintf("lib%s%d", words[i%len(words)], i) }
	sonames := []int{} // numbers of libraries
	chain := ""
	for i := 0; len(out) < n; i++ {
		f := facts(fmt.Sprintf("%s-%s%d", words[d.IntN(len(words))], words[d.IntN(len(words))], i), fmt.Sprintf("%d.%d.%d", d.IntN(4), d.IntN(20), d.IntN(9)))
		f.Release = 1 + d.IntN(4)
		f.Summary = fmt.Sprintf("Made up for measuring: the %s of the %s, number %d", words[d.IntN(len(words))], words[d.IntN(len(words))], i)
		f.Homepage, f.Category, f.Date = "https://"+f.Name+".example/", "measuring", "2031-04-02"
		kind := d.IntN(100)
		switch {
		case i < hubs || kind < 12: // a library
			f.Name = library(i)
			f.Provides = []ell.Provide{{Provide: need.MustProvide(fmt.Sprintf("soname/%s.so.%d", f.Name, i%3)), Path: "/usr/lib/" + f.Name + ".so"}, {Provide: need.MustProvide(fmt.Sprintf("package/%s-abi = %s", f.Name, f.Version))}}
			sonames = append(sonames, i)
		case kind < 16 && len(sonames) > 0: // headers of one
			owner := library(sonames[d.IntN(len(sonames))])
			for _, c := range out {
				if c.facts.Name == owner {
					f.Name, f.Version, f.Release, f.Recipe = fmt.Sprintf("%s-dev%d", owner, i), c.facts.Version, c.facts.Release, owner
					f.Needs = append(f.Needs, ell.Need{Need: need.Must(fmt.Sprintf("%s = %s", owner, c.facts.Full()))})
					f.Provides = append(f.Provides, ell.Provide{Provide: need.MustProvide(fmt.Sprintf("pkgconfig/%s%d = %s", owner, i, c.facts.Version))})
					break
				}
			}
		default:
			f.Provides = []ell.Provide{{Provide: need.MustProvide("command/" + f.Name), Path: "/usr/bin/" + f.Name}}
			if d.IntN(20) == 0 {
				f.Provides = append(f.Provides, ell.Provide{Provide: need.MustProvide("command/" + words[d.IntN(8)])}) // of which there are several
			}
		}
		if i > hubs {
			for range 1 + d.IntN(7) {
				hub := sonames[zipf.Uint64()]
				text := fmt.Sprintf("soname/%s.so.%d", library(hub), hub%3)
				f.Needs = append(f.Needs, ell.Need{Need: need.Must(text), Path: "/usr/bin/" + f.Name})
			}
			f.Needs = unique(f.Needs)
			switch d.IntN(12) {
			case 0:
				f.Needs = append(f.Needs, ell.Need{Need: need.Must(chain)})
			case 1:
				other := out[d.IntN(len(out))].facts
				f.Needs = append(f.Needs, ell.Need{Need: need.Must(fmt.Sprintf("%s >= %s", other.Name, other.Version))})
			case 2:
				f.Needs = append(f.Needs, ell.Need{Need: need.Must(fmt.Sprintf("%s | %s", out[d.IntN(len(out))].facts.Name, out[d.IntN(len(out))].facts.Name))})
			}
		}
		if chain == "" || i%40 == 0 {
			chain = f.Name
			if len(out) > 0 {
				f.Needs = append(f.Needs, ell.Need{Need: need.Must(out[max(0, len(out)-40)].facts.Name)})
			}
		}
		f.Recipe = f.Name
		c := citizen{facts: f, size: int(math.Min(64<<20, math.Exp(10.5+1.9*d.NormFloat64())))}
		c.paths = append(c.paths, "/usr/bin/"+f.Name)
		for j := range 4 + d.IntN(40) {
			c.paths = append(c.paths, fmt.Sprintf("/usr/share/%s/%s/%s%d", f.Name, words[j%5], words[d.IntN(len(words))], j))
		}
		out = append(out, c)
		if d.IntN(10) == 0 && len(out) < n { // there is an older one too
			older := c
			older.facts.Version = "0." + f.Version
			out = append(out, older)
		}
	}
	return out
}

func unique(needs []ell.Need) []ell.Need {
	seen := map[string]bool{}
	var out []ell.Need
	for _, n := range needs {
		if !seen[n.Need.String()] {
			seen[n.Need.String()] = true
			out = append(out, n)
		}
	}
	return out
}

// build writes the packages of a world on all cores. With sizes, one file of
// each has random bytes of its size; otherwise all are tiny.
func (b *bench) build(dir string, all []citizen, sizes bool) []string {
	files := make([]string, len(all))
	tiny := filepath.Join(b.work, "tiny")
	check(os.WriteFile(tiny, []byte("tide and ebb"), 0o644))
	g := errgroup.Group{}
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, c := range all {
		g.Go(func() error {
			spec := ell.Spec{Facts: c.facts, Time: time.Unix(1e9, 0)}
			payload := tiny
			if sizes {
				payload = filepath.Join(b.work, fmt.Sprintf("payload%d", i))
				data := make([]byte, c.size)
				noise := rand.NewChaCha8([32]byte{byte(i), byte(i >> 8)})
				noise.Read(data)
				if err := os.WriteFile(payload, data, 0o644); err != nil {
					return err
				}
				defer os.Remove(payload)
			}
			for j, p := range c.paths {
				disk := tiny
				if j == 0 {
					disk = payload
				}
				mode := os.FileMode(0o644)
				if strings.HasPrefix(p, "/usr/bin/") {
					mode = 0o755
				}
				spec.Claims = append(spec.Claims, staging.Claim{Path: staging.Path{Path: p, Type: staging.File, Mode: mode, Disk: disk}, Owner: staging.Root, Group: staging.Root})
			}
			sortClaims(spec.Claims)
			w, err := ell.Write(ctx, dir, spec, progress.None)
			files[i] = w.Path
			return err
		})
	}
	check(g.Wait())
	return files
}
