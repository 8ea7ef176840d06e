package draft

import (
	"slices"
	"sync"

	classifier "github.com/google/licenseclassifier/v2"
	"github.com/google/licenseclassifier/v2/assets"

	"ellwand.example/core/inspect/license"
)

// sure is the confidence from which a license text counts as recognised.
const sure = 0.9

var loaded = sync.OnceValues(func() (*classifier.Classifier, error) { return assets.DefaultClassifier() })

// otherNames are the classifier's names that are not SPDX's.
var otherNames = map[string]string{"bzip2": "bzip2-1.0.6"}

// classify tells which licenses a text holds.
func classify(text []byte) ([]string, error) {
	c, err := loaded()
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, m := range c.Match(text).Matches {
		id := m.Name
		if other := otherNames[id]; other != "" {
			id = other
		}
		if (m.MatchType == "License" || m.MatchType == "Header") && m.Confidence >= sure && len(license.Check(id)) == 0 {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids), nil
}
