// Package httpclient asks servers that may be a stranger's, or somebody's who
// sits in between: a login goes to no other host and never in the clear, also
// after a redirect; a server that stalls or trickles is given up; and what it
// sends is bounded.
package httpclient

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"syscall"
	"time"

	"ellwand.example/core/credential"
)

const (
	// connectTimeout is how long connecting may take, and the handshake.
	connectTimeout = 30 * time.Second
	// answerTimeout is how long a server may take to begin an answer.
	answerTimeout = time.Minute
	maxRedirects  = 10
	maxHeader     = 1 << 20 // bytes
)

// Stall is within which time a server has to send at least Least bytes.
const (
	Stall = time.Minute
	Least = 1 << 10
)

// Client is shared by all. It asks for files as they are: digests are of the
// stored bytes, and what a decoder makes of an answer would have no bound.
var client = &http.Client{
	Transport: &http.Transport{
		Proxy:                  http.ProxyFromEnvironment,
		DialContext:            (&net.Dialer{Timeout: connectTimeout}).DialContext,
		TLSHandshakeTimeout:    connectTimeout,
		ResponseHeaderTimeout:  answerTimeout,
		MaxResponseHeaderBytes: maxHeader,
		MaxIdleConnsPerHost:    8,
		IdleConnTimeout:        90 * time.Second,
		ForceAttemptHTTP2:      true,
		DisableCompression:     true,
	},
	CheckRedirect: checkRedirect,
}

// RedirectError is a redirect that is not followed.
type RedirectError struct{ From, To, Reason string }

func (e *RedirectError) Error() string {
	return fmt.Sprintf("%s redirects to %s: %s", e.From, e.To, e.Reason)
}

// checkRedirect checks a redirect. The login that was sent first goes to the
// same scheme, host and port only.
func checkRedirect(req *http.Request, via []*http.Request) error {
	first, last := via[0].URL, via[len(via)-1].URL
	refused := func(reason string) error {
		return &RedirectError{last.Redacted(), req.URL.Redacted(), reason}
	}
	switch {
	case len(via) >= maxRedirects:
		return refused(fmt.Sprintf("that is one redirect more than the %d that are followed", maxRedirects))
	case req.URL.Scheme != "http" && req.URL.Scheme != "https":
		return refused("only http and https are followed")
	case last.Scheme == "https" && req.URL.Scheme != "https" && !credential.Loopback(req.URL):
		return refused("it leads from https to plain http, where anyone in between can change what is sent")
	}
	if req.URL.Scheme != first.Scheme || req.URL.Host != first.Host {
		req.Header.Del("Authorization")
		req.Header.Del("Cookie")
	}
	return nil
}

// StallError is a server that sends nothing, or next to nothing.
type StallError struct {
	URL   string
	After time.Duration
}

func (e *StallError) Error() string {
	return fmt.Sprintf("%s: less than %d bytes came in %s", e.URL, Least, e.After)
}

// SizeError is an answer that is larger than it may be.
type SizeError struct {
	URL  string
	Most int64 // bytes
}

func (e *SizeError) Error() string {
	return fmt.Sprintf("%s: it is larger than the %d bytes that are taken", e.URL, e.Most)
}

// Do sends a request. The body of the answer fails with a *StallError when the
// server sends less than Least bytes within a time; Stall is the usual one. It
// must be closed.
func Do(req *http.Request, stall time.Duration) (*http.Response, error) {
	return watched(req, stall, client.Do)
}

// Transport sends requests of another library in the same way: its answers
// fail too when the server stalls.
func Transport() http.RoundTripper { return transport{} }

type transport struct{}

func (transport) RoundTrip(req *http.Request) (*http.Response, error) {
	return watched(req, Stall, client.Transport.RoundTrip)
}

func watched(req *http.Request, stall time.Duration, send func(*http.Request) (*http.Response, error)) (*http.Response, error) {
	ctx, cancel := context.WithCancelCause(req.Context())
	res, err := send(req.WithContext(ctx))
	if err != nil {
		cancel(nil)
		var redirect *RedirectError
		if errors.As(err, &redirect) {
			return nil, redirect
		}
		return nil, err
	}
	b := &body{ReadCloser: res.Body, ctx: ctx, cancel: cancel, stall: &StallError{req.URL.Redacted(), stall}}
	b.timer = time.AfterFunc(stall, func() { cancel(b.stall) })
	b.timer.Stop()
	res.Body = b
	return res, nil
}

// body is that of an answer, read under a watch. What counts is the time that
// the server is waited for, and not the time that the reader takes.
type body struct {
	io.ReadCloser
	ctx    context.Context
	cancel context.CancelCauseFunc
	stall  *StallError
	timer  *time.Timer   // ends a read that takes too long
	waited time.Duration // since the last Least bytes
	came   int           // bytes, in that time
}

func (b *body) Read(p []byte) (int, error) {
	began := time.Now()
	b.timer.Reset(b.stall.After - b.waited)
	n, err := b.ReadCloser.Read(p)
	b.timer.Stop()
	b.waited += time.Since(began)
	if b.came += n; b.came >= Least {
		b.came, b.waited = 0, 0
	} else if b.waited >= b.stall.After {
		b.cancel(b.stall)
	}
	if err != nil && !errors.Is(err, io.EOF) && b.ctx.Err() != nil {
		err = context.Cause(b.ctx)
	}
	return n, err
}

func (b *body) Close() error {
	b.timer.Stop()
	err := b.ReadCloser.Close()
	b.cancel(nil)
	return err
}

// Limit reads an answer of at most so many bytes; past those it fails with a
// *SizeError.
func Limit(r io.Reader, url string, most int64) io.Reader { return &limited{r, url, most, most} }

type limited struct {
	r          io.Reader
	url        string
	most, left int64
}

func (l *limited) Read(p []byte) (int, error) {
	if int64(len(p)) > l.left+1 {
		p = p[:l.left+1]
	}
	n, err := l.r.Read(p)
	if l.left -= int64(n); l.left < 0 {
		return n, &SizeError{l.url, l.most}
	}
	return n, err
}

// AddressError is a server whose address belongs to this machine or to a network of its own.
type AddressError struct{ Host string }

func (e *AddressError) Error() string {
	return e.Host + " is not a public address, and it is not configured"
}

// publicOnly refuses connections to addresses that are not public. It looks at the address
// that is connected to, whatever name it was found by.
func publicOnly(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	ip := at.Addr().Unmap()
	if !ip.IsGlobalUnicast() || ip.IsPrivate() || sharedAddresses.Contains(ip) {
		return &AddressError{ip.String()}
	}
	return nil
}

// sharedAddresses are those between a provider and its customers (RFC 6598).
var sharedAddresses = netip.MustParsePrefix("100.64.0.0/10")

var public = sync.OnceValue(func() *http.Client {
	t := client.Transport.(*http.Transport).Clone()
	t.DialContext = (&net.Dialer{Timeout: connectTimeout, Control: publicOnly}).DialContext
	return &http.Client{Transport: t, CheckRedirect: checkRedirect}
})

// DoPublic sends a request as Do does, and only to servers with a public address: the error
// is an *AddressError otherwise. If there is a proxy, that decides.
func DoPublic(req *http.Request, stall time.Duration) (*http.Response, error) {
	if proxy, err := http.ProxyFromEnvironment(req); err != nil || proxy != nil {
		return watched(req, stall, client.Do)
	}
	return watched(req, stall, public().Do)
}
