package modules

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"syscall"
	"testing"
)

func mkfifo(t *testing.T, name string) {
	t.Helper()
	if err := syscall.Mkfifo(name, 0o644); err != nil {
		t.Fatal(err)
	}
}

// through is a client that knows no other way than a proxy, and trusts no other certificate.
func through(t *testing.T, upstream string, rule Rule) (*http.Client, *Proxy) {
	t.Helper()
	var registry *url.URL
	if upstream != "" {
		registry, _ = url.Parse(upstream)
	}
	p, err := NewProxy(registry, rule, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan struct{})
	go func() { defer close(done); p.Serve(context.Background(), l) }()
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(p.Certificate())
	address := &url.URL{Scheme: "http", Host: l.Addr().String()}
	transport := &http.Transport{Proxy: http.ProxyURL(address), TLSClientConfig: &tls.Config{RootCAs: roots}}
	t.Cleanup(func() { transport.CloseIdleConnections(); l.Close(); <-done })
	return &http.Client{Transport: transport}, p
}

func fetch(t *testing.T, c *http.Client, method, address string) (int, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, address, strings.NewReader(""))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer secret")
	req.Header.Set("Range", "bytes=1-")
	res, err := c.Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer res.Body.Close()
	data, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(data)
}

func TestProxy(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Header.Get("Authorization") != "" || r.Header.Get("Range") != "":
			http.Error(w, "a login or a range came through", http.StatusTeapot)
		case r.URL.Path == "/base/missing":
			http.NotFound(w, r)
		default:
			io.WriteString(w, "tides "+r.URL.RequestURI())
		}
	}))
	defer server.Close()
	rule := func(d Download) error {
		if strings.HasSuffix(d.Path, "/swapped") {
			return errors.New("the lock file does not name it")
		}
		return nil
	}
	c, p := through(t, server.URL+"/base/", rule)
	for _, want := range []struct {
		method, address string
		status          int
		text            string
	}{
		{"GET", Registry + "/table%2fone?x=1", 200, "tides /base/table%2fone?x=1"},
		{"GET", server.URL + "/other", 200, "tides /other"},
		{"GET", Registry + "/missing", 404, "not found"},
		{"GET", Registry + "/swapped", 403, "the lock file does not name it"},
		{"POST", Registry + "/upload", 405, "nothing is sent"},
		{"PUT", "https://tide.example/upload", 405, "nothing is sent"},
		{"GET", "https://127.0.0.1:1/metadata", 502, "not a public address"},
		{"GET", "http://169.254.169.254/latest", 502, "not a public address"},
		{"GET", "http://10.0.0.1/x", 502, "not a public address"},
		{"GET", "http://[::ffff:127.0.0.1]/x", 502, "not a public address"},
		{"GET", "ftp://tide.example/x", 0, "unsupported protocol"},
	} {
		status, text := fetch(t, c, want.method, want.address)
		if status != want.status || !strings.Contains(text, want.text) {
			t.Errorf("%s %s: %d %s", want.method, want.address, status, text)
		}
	}
	// One with another scheme never reached it.
	noted := p.Downloads()
	if len(noted) != 10 || noted[0].SHA256 == "" || noted[0].Size == 0 || noted[3].Refused == "" {
		t.Errorf("%+v", noted)
	}
	c, _ = through(t, "", rule)
	for address, want := range map[string]string{Registry + "/x": "no registry is configured", server.URL + "/x": "not a public address"} {
		if status, text := fetch(t, c, "GET", address); status != 502 || !strings.Contains(text, want) {
			t.Errorf("%s: %d %s", address, status, text)
		}
	}
}

// A client that opens a connection and says nothing is not waited for at the end.
func TestProxyEnds(t *testing.T) {
	p, err := NewProxy(nil, func(Download) error { return nil }, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan struct{})
	go func() { defer close(done); p.Serve(context.Background(), l) }()
	for _, text := range []string{"", "CONNECT tide.example:443 HTTP/1.1\r\nHost: tide.example:443\r\n\r\n"} {
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		io.WriteString(conn, text)
		if text != "" {
			io.ReadFull(conn, make([]byte, 15)) // HTTP/1.1 200 OK
		}
	}
	l.Close()
	<-done
}
