package recipe

import (
	"strings"
	"testing"

	"ellwand.example/core/testtool"
)

// Every key that the reader knows is in the schema with a description, and
// every description is of such a key.
func TestSchema(t *testing.T) {
	data, err := Schema()
	if err != nil {
		t.Fatal(err)
	}
	if testtool.CheckSchema(t, data, Keys()) != len(required) || !strings.Contains(string(data), `"autotools"`) {
		t.Errorf("%s", data)
	}
}
