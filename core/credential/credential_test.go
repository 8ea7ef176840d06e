package credential

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestAuthorize states who is told what.
func TestAuthorize(t *testing.T) {
	netrc := filepath.Join(t.TempDir(), "netrc")
	os.WriteFile(netrc, []byte("machine packages.saltmarsh.example login ines password ebb\n"), 0o600)
	t.Setenv("NETRC", netrc)
	for _, c := range []struct {
		title, address, prefix string
		environment            [3]string // user, password, token
		want                   string    // of the header, or in the error
	}{
		{"nobody is known", "https://other.example/", "T", [3]string{}, ""},
		{"a host of .netrc", "https://packages.saltmarsh.example/x", "T", [3]string{}, "Basic aW5lczplYmI="},
		{"the environment comes first", "https://packages.saltmarsh.example/x", "T", [3]string{"orrin", "flow", ""}, "Basic b3JyaW46Zmxvdw=="},
		{"but not without a prefix", "https://other.example/", "", [3]string{"orrin", "flow", ""}, ""},
		{"a token comes before a user", "https://other.example/", "T", [3]string{"orrin", "flow", "moon"}, "Bearer moon"},
		{"nothing is sent in the clear", "http://packages.saltmarsh.example/x", "T", [3]string{}, "not sent over plain http"},
		{"but to the machine itself", "http://127.0.0.1:8400/", "T", [3]string{"orrin", "flow", ""}, "Basic b3JyaW46Zmxvdw=="},
		{"by name too", "http://localhost/", "T", [3]string{"", "", "moon"}, "Bearer moon"},
	} {
		for i, name := range []string{"T_USER", "T_PASSWORD", "T_TOKEN"} {
			t.Setenv(name, c.environment[i])
		}
		req, err := http.NewRequest(http.MethodGet, c.address, nil)
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		if err := Authorize(req, c.prefix); err != nil {
			got = err.Error()
		}
		got += req.Header.Get("Authorization")
		if got != c.want && (c.want == "" || !strings.Contains(got, c.want)) {
			t.Errorf("%s: %q, not %q", c.title, got, c.want)
		}
	}
	os.WriteFile(netrc, []byte("machine"), 0o600)
	if _, err := For("packages.saltmarsh.example", ""); err == nil || !strings.Contains(err.Error(), "an entry is not complete") {
		t.Errorf("a .netrc that ends in an entry: %v", err)
	}
	os.Chmod(netrc, 0)
	if os.Getuid() != 0 {
		if _, err := For("packages.saltmarsh.example", ""); err == nil {
			t.Error("a .netrc that cannot be read")
		}
	}
}
