package httpclient

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// get asks for a URL with a login, and reads all of the answer.
func get(t *testing.T, url string, stall time.Duration) (string, error) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer secret")
	res, err := Do(req, stall)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	data, err := io.ReadAll(Limit(res.Body, url, 1<<20))
	return string(data), err
}

// A login goes to the server that it is for, and to no other, whatever that
// redirects to; a redirect from https to http is not followed.
func TestRedirects(t *testing.T) {
	var other, plain *httptest.Server
	echo := func(w http.ResponseWriter, r *http.Request) {
		io.WriteString(w, "login: "+r.Header.Get("Authorization"))
	}
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/other":
			http.Redirect(w, r, other.URL+"/echo", http.StatusFound)
		case "/same":
			http.Redirect(w, r, "/echo", http.StatusFound)
		case "/there-and-back":
			http.Redirect(w, r, other.URL+"/back", http.StatusFound)
		case "/plain":
			http.Redirect(w, r, "http://tide.example/echo", http.StatusFound)
		case "/file":
			http.Redirect(w, r, "file:///etc/passwd", http.StatusFound)
		case "/loop":
			http.Redirect(w, r, "/loop", http.StatusFound)
		default:
			echo(w, r)
		}
	})
	secure := httptest.NewTLSServer(handler)
	defer secure.Close()
	plain = httptest.NewServer(handler)
	defer plain.Close()
	other = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/back" {
			http.Redirect(w, r, plain.URL+"/echo", http.StatusFound)
			return
		}
		echo(w, r)
	}))
	defer other.Close()
	client.Transport.(*http.Transport).TLSClientConfig = &tls.Config{InsecureSkipVerify: true}
	defer func() { client.Transport.(*http.Transport).TLSClientConfig = nil }()
	for url, want := range map[string]string{
		plain.URL + "/echo": "login: Bearer secret", plain.URL + "/same": "login: Bearer secret", plain.URL + "/other": "login: ", secure.URL + "/same": "login: Bearer secret",
	} {
		if got, err := get(t, url, Stall); err != nil || got != want {
			t.Errorf("%s: %q, %v; want %q", url, got, err, want)
		}
	}
	if got, err := get(t, plain.URL+"/there-and-back", Stall); err == nil && strings.HasPrefix(got, "login: Bearer") {
		// It came back to the server that the login is for, by way of another.
		t.Logf("after a way round: %q", got)
	}
	for url, want := range map[string]string{secure.URL + "/plain": "from https to plain http", plain.URL + "/file": "only http and https", plain.URL + "/loop": "one redirect more"} {
		_, err := get(t, url, Stall)
		var redirect *RedirectError
		if !errors.As(err, &redirect) || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "secret") {
			t.Errorf("%s: %v, want %s", url, err, want)
		}
	}
}

// A server that says nothing, trickles or does not stop is given up.
func TestMisbehaving(t *testing.T) {
	stop := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		tick := time.NewTicker(20 * time.Millisecond)
		defer tick.Stop()
		w.WriteHeader(http.StatusOK)
		w.(http.Flusher).Flush()
		for {
			switch r.URL.Path {
			case "/silent":
			case "/trickle":
				io.WriteString(w, "x")
			case "/endless":
				w.Write(make([]byte, 1<<16))
			}
			w.(http.Flusher).Flush()
			select {
			case <-stop:
				return
			case <-r.Context().Done():
				return
			case <-tick.C:
			}
		}
	}))
	defer server.Close()
	defer close(stop)
	for _, path := range []string{"/silent", "/trickle"} {
		var stalled *StallError
		if _, err := get(t, server.URL+path, 300*time.Millisecond); !errors.As(err, &stalled) {
			t.Errorf("%s: %v", path, err)
		}
	}
	var size *SizeError
	if got, err := get(t, server.URL+"/endless", Stall); !errors.As(err, &size) || len(got) > 1<<20+1 {
		t.Errorf("/endless: %d bytes, %v", len(got), err)
	}
	// Whoever is slow to take what comes is not the server's fault.
	req, _ := http.NewRequestWithContext(t.Context(), http.MethodGet, server.URL+"/endless", nil)
	res, err := Do(req, 50*time.Millisecond)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	for range 3 {
		if _, err := io.ReadFull(res.Body, make([]byte, 1<<16)); err != nil {
			t.Errorf("a slow taker: %v", err)
		}
		time.Sleep(150 * time.Millisecond)
	}
	ctx, cancel := context.WithCancelCause(t.Context())
	why := errors.New("enough")
	time.AfterFunc(50*time.Millisecond, func() { cancel(why) })
	req, _ = http.NewRequestWithContext(ctx, http.MethodGet, server.URL+"/silent", nil)
	if res, err := Do(req, Stall); err == nil {
		_, err = io.ReadAll(res.Body)
		res.Body.Close()
		if !errors.Is(err, why) {
			t.Errorf("interrupted: %v", err)
		}
	}
}
