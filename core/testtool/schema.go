package testtool

import (
	"encoding/json"
	"strings"
	"testing"
)

// CheckSchema sees to it that every key of a JSON Schema has a description, that no table lets
// unknown keys pass, and that each described key, by its path, is one of the schema. It returns
// the keys that are required.
func CheckSchema(t *testing.T, data []byte, described []string) (required int) {
	t.Helper()
	var s map[string]any
	if err := json.Unmarshal(data, &s); err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	var walk func(v map[string]any, path string)
	walk = func(v map[string]any, path string) {
		if properties, ok := v["properties"].(map[string]any); ok {
			if v["additionalProperties"] != false {
				t.Errorf("%q lets unknown keys pass", path)
			}
			for key, p := range properties {
				at := strings.TrimPrefix(path+"."+key, ".")
				seen[at] = true
				child := p.(map[string]any)
				if child["description"] == nil || child["description"] == "" {
					t.Errorf("%s has no description", at)
				}
				walk(child, at)
			}
		}
		for _, key := range []string{"items", "additionalProperties"} {
			if child, ok := v[key].(map[string]any); ok {
				walk(child, path)
			}
		}
	}
	walk(s, "")
	for _, at := range described {
		if !seen[at] {
			t.Errorf("%s is described, and no key of the schema", at)
		}
	}
	return len(s["required"].([]any))
}
