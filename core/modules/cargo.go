package modules

import (
	"fmt"
	"os"
	"path"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"ellwand.example/core/fact"
)

// cargo is the package manager of Rust: the crates that Cargo.lock names, unpacked.
var cargo = Language{
	Name:    "cargo",
	Locks:   []string{"Cargo.lock"},
	Make:    "run `cargo generate-lockfile` in a copy of the source",
	Command: "cargo",
	// Paths in a configuration are relative to the directory above its own.
	Download: `mkdir -p "$HOME/cargo"
if test -n "${REGISTRY:-}"; then
	printf '[source.crates-io]\nreplace-with = "configured"\n[source.configured]\nregistry = "sparse+%s/"\n' "$REGISTRY" >"$HOME/cargo/config.toml"
fi
cargo vendor --locked --versioned-dirs "$HOME/cargo/vendor" >"$TMPDIR/replace.toml"
sed 's|^directory = .*|directory = "cargo/vendor"|' "$TMPDIR/replace.toml" >"$HOME/cargo/config.toml"`,
	Keep:     []string{"home/cargo/vendor", "home/cargo/config.toml"},
	Registry: func(address string) map[string]string { return map[string]string{"REGISTRY": address} },
	Online: func(home string) map[string]string {
		return map[string]string{"CARGO_HOME": home + "/cargo", "CARGO_HTTP_CAINFO": certificatePath(home)}
	},
	Offline: func(home string) map[string]string {
		return map[string]string{"CARGO_HOME": home + "/cargo", "CARGO_NET_OFFLINE": "true"}
	},
	allow: func(lock []byte) (Rule, error) {
		all, err := parseCargoLock(lock)
		if err != nil {
			return nil, err
		}
		sums := map[string]bool{}
		for _, p := range all {
			sums[p.Checksum] = true
		}
		return func(d Download) error {
			if isCrate := strings.HasSuffix(d.Path, ".crate") || strings.HasSuffix(d.Path, "/download"); isCrate && !sums[d.SHA256] {
				return fmt.Errorf("the lock file has no crate with its digest")
			}
			return nil
		}, nil
	},
	list: func(tree *os.Root, _ string, lock []byte) ([]fact.Module, error) {
		all, err := parseCargoLock(lock)
		if err != nil {
			return nil, err
		}
		var out []fact.Module
		for _, p := range all {
			if p.Source == "" {
				continue // it is part of the source
			}
			var manifest struct {
				Package struct{ License string }
			}
			file := path.Join("home/cargo/vendor", path.Base(p.Name+"-"+p.Version), "Cargo.toml")
			if toml.Unmarshal(readText(tree, file), &manifest) != nil {
				manifest.Package.License = ""
			}
			out = append(out, fact.Module{Name: p.Name, Version: p.Version, URL: packageURL("cargo", p.Name, p.Version), License: strings.ReplaceAll(manifest.Package.License, "/", " OR ")})
		}
		return out, nil
	},
}

type cargoPackage struct {
	Name     string `toml:"name"`
	Version  string `toml:"version"`
	Source   string `toml:"source"`
	Checksum string `toml:"checksum"`
}

func parseCargoLock(data []byte) ([]cargoPackage, error) {
	var lock struct {
		Package []cargoPackage `toml:"package"`
	}
	if err := toml.Unmarshal(data, &lock); err != nil {
		return nil, fact.Errorf(fact.StatusInput, "Cargo.lock is not TOML: %v", err)
	}
	return lock.Package, nil
}
