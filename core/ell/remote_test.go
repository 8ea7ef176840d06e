package ell

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync/atomic"
	"testing"
)

// Of a package on a server no more is read than is asked for.
func TestRemote(t *testing.T) {
	w := write(t, spec(claims(t, staged{"usr/share/x": big(), "usr/share/y": strings.Repeat(big(), 3), "usr/share/z": "z"})))
	whole, err := os.ReadFile(w.Path)
	if err != nil {
		t.Fatal(err)
	}
	var sent, asked atomic.Int64
	way := "ranges"
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		switch way {
		case "whole":
			rw.Write(whole)
		case "changes":
			rw.Header().Set("ETag", `"`+r.Header.Get("Range")+`"`)
			http.ServeFile(rw, r, w.Path)
		case "missing":
			http.NotFound(rw, r)
		case "other range":
			rw.Header().Set("Content-Range", "bytes 0-9/100000")
			rw.WriteHeader(http.StatusPartialContent)
			rw.Write(whole[:10])
		default:
			c := &counting{rw, &sent}
			http.ServeFile(c, r, w.Path)
		}
	}))
	defer server.Close()
	ctx := context.Background()
	p, err := OpenURL(ctx, server.URL+"/x.ell", nil)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	if asked.Load() != 2 || sent.Load() > remoteAhead*3/2 {
		t.Errorf("the facts took %d requests and %d bytes", asked.Load(), sent.Load())
	}
	z, _ := Find(entriesOf(t, p), "/usr/share/z")
	var text strings.Builder
	if err := p.WriteFile(ctx, &text, z); err != nil || text.String() != "z" || sent.Load() > int64(len(whole))/2 {
		t.Errorf("one file took %d of %d bytes: %q, %v", sent.Load(), len(whole), text.String(), err)
	}
	if err := p.Verify(ctx); err != nil {
		t.Error(err)
	}
	// A server that knows nothing of parts sends it all, once.
	way = "whole"
	asked.Store(0)
	all, err := OpenURL(ctx, server.URL+"/x.ell", nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := all.Verify(ctx); err != nil || asked.Load() != 1 {
		t.Errorf("the whole package took %d requests: %v", asked.Load(), err)
	}
	if err := all.Close(); err != nil {
		t.Error(err)
	}
	stopped, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := OpenURL(stopped, server.URL, nil); err == nil {
		t.Error("it is opened after an interruption")
	}
	whole = whole[:len(whole)-9]
	var damaged *DamagedError
	if _, err := OpenURL(ctx, server.URL, nil); !errors.As(err, &damaged) {
		t.Errorf("one that ends early: %v", err)
	}
	var remote *RemoteError
	for _, c := range []struct{ way, want string }{
		{"changes", "changed while it was read"}, {"missing", "404"}, {"other range", "EOF"},
	} {
		way = c.way
		if _, err := OpenURL(ctx, server.URL, nil); !errors.As(err, &remote) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", c.way, err)
		}
	}
}

type counting struct {
	http.ResponseWriter
	n *atomic.Int64
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.ResponseWriter.Write(b)
	c.n.Add(int64(n))
	return n, err
}
