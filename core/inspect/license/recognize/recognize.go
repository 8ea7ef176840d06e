// Package recognize tells which licenses a text holds.
package recognize

import (
	"archive/tar"
	"bytes"
	_ "embed"
	"errors"
	"io"
	"slices"
	"strings"
	"sync"

	classifier "github.com/google/licenseclassifier/v2"
	"github.com/klauspost/compress/zstd"

	"ellwand.example/core/inspect/license"
)

// The texts are the classifier's own, which its package for them would embed
// without compression: 2.7 MB instead of 0.3 MB.
//
//go:generate go run generate.go
//go:embed texts.tar.zst
var texts []byte

// Confidence is the least confidence, from 0 to 1, with which a license counts as
// recognized.
const Confidence = 0.9

// threshold is the confidence below which the classifier does not report a match.
const threshold = 0.8

var load = sync.OnceValues(func() (*classifier.Classifier, error) {
	z, err := zstd.NewReader(bytes.NewReader(texts), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	c := classifier.NewClassifier(threshold)
	for t := tar.NewReader(z); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return c, nil
		}
		if err != nil {
			return nil, err
		}
		text, err := io.ReadAll(t)
		if err != nil {
			return nil, err
		}
		parts := strings.Split(h.Name, "/") // category, license, variant
		c.AddContent(parts[0], parts[1], parts[2], text)
	}
})

// otherNames are the classifier's names that are not SPDX identifiers.
var otherNames = map[string]string{"bzip2": "bzip2-1.0.6"}

// Licenses returns the SPDX identifiers of the licenses that a text holds, sorted.
func Licenses(text []byte) ([]string, error) {
	c, err := load()
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, m := range c.Match(text).Matches {
		id := m.Name
		if other := otherNames[id]; other != "" {
			id = other
		}
		if (m.MatchType == "License" || m.MatchType == "Header") && m.Confidence >= Confidence && len(license.Check(id)) == 0 {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids), nil
}
