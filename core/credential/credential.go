// Package credential finds what a server is to be told of who asks: in
// variables of the environment, or in the user's .netrc (the format that the
// Berkeley ftp program introduced).
package credential

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"

	"github.com/jdx/go-netrc"
)

// Login is what a server is told. All of it may be empty.
type Login struct{ User, Password, Token string }

// For finds the login for a host: in the variables PREFIX_TOKEN, PREFIX_USER
// and PREFIX_PASSWORD, and otherwise in .netrc. With an empty prefix only
// .netrc is looked into.
func For(host, prefix string) (Login, error) {
	if prefix != "" {
		l := Login{os.Getenv(prefix + "_USER"), os.Getenv(prefix + "_PASSWORD"), os.Getenv(prefix + "_TOKEN")}
		if l.User != "" || l.Token != "" {
			return l, nil
		}
	}
	user, password, err := fromNetrc(host)
	return Login{User: user, Password: password}, err
}

// Authorize adds the login to a request. It is never sent in the clear, but to
// this machine itself.
func Authorize(req *http.Request, prefix string) error {
	l, err := For(req.URL.Hostname(), prefix)
	if err != nil || l == (Login{}) {
		return err
	}
	if req.URL.Scheme != "https" && !Loopback(req.URL) {
		return fmt.Errorf("%s: credentials are not sent over plain http: use https", req.URL.Redacted())
	}
	if l.Token != "" {
		req.Header.Set("Authorization", "Bearer "+l.Token)
	} else {
		req.SetBasicAuth(l.User, l.Password)
	}
	return nil
}

// Loopback reports whether an address is this machine itself.
func Loopback(u *url.URL) bool {
	ip := net.ParseIP(u.Hostname())
	return u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
}

// parseNetrc reads a .netrc. The library panics at a file that ends in the
// middle of an entry.
func parseNetrc(name string) (file *netrc.Netrc, err error) {
	defer func() {
		if recover() != nil {
			err = errors.New("an entry is not complete")
		}
	}()
	return netrc.Parse(name)
}

// fromNetrc looks a host up in $NETRC, or in .netrc in the home directory.
func fromNetrc(host string) (user, password string, err error) {
	name := os.Getenv("NETRC")
	if name == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", "", nil
		}
		name = filepath.Join(home, ".netrc")
	}
	file, err := parseNetrc(name)
	if errors.Is(err, fs.ErrNotExist) {
		return "", "", nil
	}
	if err != nil {
		return "", "", fmt.Errorf("%s cannot be read: %w", name, err)
	}
	m := file.Machine(host)
	if m == nil {
		return "", "", nil
	}
	return m.Get("login"), m.Get("password"), nil
}
