package recipe

import (
	"encoding/json"
	"strings"
	"testing"
)

// Every key that the reader knows is in the schema with a description, and
// every description is of such a key.
func TestSchema(t *testing.T) {
	data, err := Schema()
	if err != nil {
		t.Fatal(err)
	}
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
	for at := range descriptions {
		if !seen[at] {
			t.Errorf("%s is described, and no key of the schema", at)
		}
	}
	if len(s["required"].([]any)) != len(required) || !strings.Contains(string(data), `"autotools"`) {
		t.Errorf("%s", data)
	}
}
