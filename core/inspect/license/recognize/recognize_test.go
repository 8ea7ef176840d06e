package recognize

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestLicenses(t *testing.T) {
	mit, err := os.ReadFile(filepath.Join("..", "..", "..", "..", "demo", "upstream", "libharmonic-1.4.2", "COPYING"))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ title, text, want string }{
		{"a whole text", string(mit), "MIT"},
		{"a text within another", "Tide tables\n\n" + string(mit) + "\nThank you for reading.\n", "MIT"},
		{"a header", "Licensed under the Apache License, Version 2.0 (the \"License\");\nyou may not use this file except in compliance with the License.\nYou may obtain a copy of the License at\n\n    http://www.apache.org/licenses/LICENSE-2.0\n\nUnless required by applicable law or agreed to in writing, software\ndistributed under the License is distributed on an \"AS IS\" BASIS,\nWITHOUT WARRANTIES OR CONDITIONS OF ANY KIND, either express or implied.\nSee the License for the specific language governing permissions and\nlimitations under the License.\n", "Apache-2.0"},
		{"prose", "The tide at Saltmarsh comes twice a day.", ""},
		{"nothing", "", ""},
		{"bytes that are no text", "\x00\xff\xfe", ""},
	} {
		t.Run(c.title, func(t *testing.T) {
			got, err := Licenses([]byte(c.text))
			if err != nil || strings.Join(got, " ") != c.want {
				t.Errorf("%q, %v, want %q", got, err, c.want)
			}
		})
	}
}
