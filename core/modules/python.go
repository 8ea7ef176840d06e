package modules

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"net/textproto"
	"os"
	"path"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
)

// python are distributions that a requirements file names, each with its digest.
var python = Language{
	Name:     "python",
	Locks:    []string{"requirements.lock", "requirements.txt"},
	Make:     "list each module as NAME==VERSION --hash=sha256:… in it",
	Command:  "pip3",
	Download: `python3 -m pip download --no-deps --require-hashes --dest "$HOME/wheels" --requirement "$LOCK"`,
	Keep:     []string{"home/wheels"},
	Registry: func(address string) map[string]string { return map[string]string{"PIP_INDEX_URL": address} },
	Online: func(home string) map[string]string {
		return map[string]string{"PIP_CERT": certificatePath(home), "PIP_DISABLE_PIP_VERSION_CHECK": "1", "PIP_NO_CACHE_DIR": "1", "PIP_TRUSTED_HOST": registryHost}
	},
	Offline: func(home string) map[string]string {
		return map[string]string{"PIP_NO_INDEX": "1", "PIP_FIND_LINKS": home + "/wheels", "PIP_DISABLE_PIP_VERSION_CHECK": "1"}
	},
	allow: func(lock []byte) (Rule, error) {
		sums := map[string]bool{}
		for _, m := range requirementDigest.FindAllStringSubmatch(string(lock), -1) {
			sums[m[1]] = true
		}
		if len(sums) == 0 {
			return nil, fact.Errorf(fact.StatusInput, "the requirements name no digests: write --hash=sha256:… behind each")
		}
		return func(d Download) error {
			if distribution.MatchString(d.Path) && !sums[d.SHA256] {
				return fmt.Errorf("the requirements name no file with its digest")
			}
			return nil
		}, nil
	},
	list: func(tree *os.Root, _ string, _ []byte) ([]fact.Module, error) {
		var all []fact.Module
		err := walk(tree, "home/wheels", func(file string) error {
			name, version, license := pythonMetadata(tree, file)
			if name != "" {
				all = append(all, fact.Module{Name: name, Version: version, URL: packageURL("pypi", strings.ToLower(strings.ReplaceAll(name, "_", "-")), version), License: license})
			}
			return nil
		})
		return all, err
	},
}

var (
	requirementDigest = pattern.New(`--hash[= ]sha256:([0-9a-f]{64})`)
	distribution      = pattern.New(`\.(whl|zip|tar\.gz|tar\.bz2|tgz)$`)
)

// pythonMetadata reads what a wheel or a source distribution says of itself (core metadata
// of Python packages, in the format of mail headers).
func pythonMetadata(tree *os.Root, file string) (name, version, license string) {
	f, err := tree.Open(file)
	if err != nil {
		return "", "", ""
	}
	defer f.Close()
	text, err := pythonMetadataText(f, file)
	if err != nil {
		return "", "", ""
	}
	// What comes after the headers may be cut off.
	h, _ := textproto.NewReader(bufio.NewReader(bytes.NewReader(text))).ReadMIMEHeader()
	license = h.Get("License-Expression")
	if license == "" && len(h.Get("License")) < 60 {
		license = h.Get("License")
	}
	return h.Get("Name"), h.Get("Version"), license
}

func pythonMetadataText(f *os.File, file string) ([]byte, error) {
	if path.Ext(file) == ".gz" {
		z, err := gzip.NewReader(f)
		if err != nil {
			return nil, err
		}
		for t := tar.NewReader(io.LimitReader(z, 1<<30)); ; {
			h, err := t.Next()
			if err != nil {
				return nil, err
			}
			if strings.Count(h.Name, "/") == 1 && path.Base(h.Name) == "PKG-INFO" {
				return readBounded(t)
			}
		}
	}
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	z, err := zip.NewReader(f, info.Size())
	if err != nil {
		return nil, err
	}
	for _, entry := range z.File {
		if strings.Count(entry.Name, "/") == 1 && strings.HasSuffix(entry.Name, ".dist-info/METADATA") {
			r, err := entry.Open()
			if err != nil {
				return nil, err
			}
			defer r.Close()
			return readBounded(r)
		}
	}
	return nil, errors.New("it has no metadata")
}
