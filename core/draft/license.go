package draft

import (
	"slices"
	"sync"

	classifier "github.com/google/licenseclassifier/v2"
	"github.com/google/licenseclassifier/v2/assets"

	"ellwand.example/core/license"
)

// sure is the confidence from which a licence text counts as recognised.
const sure = 0.9

var loaded = sync.OnceValues(func() (*classifier.Classifier, error) { return assets.DefaultClassifier() })

// classify tells which licence a text is; empty where that is not certain.
func classify(text []byte) (string, error) {
	c, err := loaded()
	if err != nil {
		return "", err
	}
	var ids []string
	for _, m := range c.Match(text).Matches {
		if m.MatchType == "License" && m.Confidence >= sure {
			ids = append(ids, m.Name)
		}
	}
	slices.Sort(ids)
	ids = slices.Compact(ids)
	if len(ids) != 1 {
		return "", nil
	}
	// The classifier's names are SPDX's, but for some of its own.
	if len(license.Check(ids[0])) > 0 {
		return "", nil
	}
	return ids[0], nil
}
