package compare

import (
	"fmt"
	"strings"
	"testing"
)

const before = `name = "tide"
version = "1.0"
[let]
major = "1"
[[source]]
url = "https://files.example/a.tar"
sha256 = "1111"
[needs]
build = ["command/cc", "command/make"]
[[needs.when]]
if = "option.tls"
build = ["pkgconfig/openssl"]
[steps]
method = "make"
test = '''
make check
make lint
'''
[package.tide.layout]
"/usr/bin/tide" = {}
"/etc/tide.conf" = { mode = "0640" }
[[change]]
version = "1.0-1"
text = ["First"]
`

func TestRecipes(t *testing.T) {
	for _, c := range []struct{ from, to, want string }{
		{"", "", ""},
		{"# nothing", "# else", ""},
		{`"1.0"`, `"1.1"`, "facts|version|1.0|1.1"},
		{`major = "1"`, `major = "2"`, "facts|let.major|1|2"},
		{`"1111"`, `"2222"`, "sources|https://files.example/a.tar sha256|1111|2222"},
		{`"command/make"]`, `"command/make", "command/sed"]`, "needs|build||command/sed"},
		{`["command/cc", "command/make"]`, `["command/make", "command/cc"]`, ""},
		{`"pkgconfig/openssl"`, `"pkgconfig/tls"`, "needs|when option.tls build|pkgconfig/openssl|; needs|when option.tls build||pkgconfig/tls"},
		{`method = "make"`, `method = "meson"`, "steps|method|make|meson"},
		{"make lint\n", "", "steps|test|||-make lint"},
		{`{ mode = "0640" }`, `{ mode = "0600" }`, `layout|tide: /etc/tide.conf|{ mode = "0640" }|{ mode = "0600" }`},
		{`"/usr/bin/tide" = {}`, `"/usr/bin/tides" = {}`, "layout|tide: /usr/bin/tide|{  }|; layout|tide: /usr/bin/tides||{  }"},
		{"[[change]]", "[[change]]\nversion = \"1.1-1\"\ntext = [\"Second\"]\n[[change]]", `changes|1.1-1||{ version = "1.1-1", text = ["Second"] }`},
	} {
		a := map[string][]byte{"recipe.toml": []byte(before)}
		b := map[string][]byte{"recipe.toml": []byte(strings.Replace(before, c.from, c.to, 1))}
		var got []string
		for _, d := range Recipes(a, b) {
			s := fmt.Sprintf("%s|%s|%s|%s", d.Area, d.What, d.Before, d.After)
			for line := range strings.Lines(d.Difference) {
				if strings.HasPrefix(line, "-make") {
					s += "|" + strings.TrimSpace(line)
				}
			}
			got = append(got, s)
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%q → %q:\n got %s\nwant %s", c.from, c.to, strings.Join(got, "; "), c.want)
		}
	}
	files := Recipes(map[string][]byte{"a": []byte("1\n"), "b": nil, "d": {0, 1}}, map[string][]byte{"a": []byte("2\n"), "c": nil, "d": {0}})
	if len(files) != 4 || !strings.Contains(files[0].Difference, "-1\n+2") || files[1].Before != "removed" || files[2].After != "new" || files[3].After != "1 bytes" {
		t.Errorf("files: %+v", files)
	}
}
