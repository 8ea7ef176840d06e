package modules

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"hash"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"ellwand.example/core/credential"
	"ellwand.example/core/httpclient"
)

// registryHost is what the download takes for the host of the configured registry: its
// address, and a login in it, stay outside of the sandbox.
const registryHost = "registry.invalid"

// Registry is the address of the configured registry, inside.
const Registry = "http://" + registryHost

// certificatePath is where the proxy's certificate is, inside.
func certificatePath(home string) string { return home + "/" + CertificateFile }

// CertificateFile is the name of the file with the proxy's certificate, in the home directory.
const CertificateFile = ".proxy.pem"

// Download is an answer that a download got.
type Download struct {
	Host   string `json:"host"`
	Path   string `json:"path"`
	Status int    `json:"status"` // of HTTP
	Size   int64  `json:"size"`   // bytes
	SHA256 string `json:"sha256"`
	SHA1   string `json:"-"`
	SHA512 string `json:"-"`
	// Refused says why the answer was withheld; empty if it was not.
	Refused string `json:"refused,omitempty"`
}

// Proxy is an HTTP proxy (RFC 9110) that sees what is downloaded through it, over TLS too: it
// makes a certificate for each host, signed by one of its own, which only the sandbox trusts.
// Of methods, there are GET and HEAD, and what git fetches with.
type Proxy struct {
	// Upstream is the configured registry; nil for none.
	Upstream *url.URL
	Rule     Rule
	Temp     string // a directory for answers that are looked at before they are passed on
	Log      io.Writer

	authority *x509.Certificate
	key       *ecdsa.PrivateKey
	tunnels   sync.WaitGroup
	mu        sync.Mutex
	hosts     map[string]*tls.Certificate
	downloads []Download
}

// NewProxy makes a proxy with a certificate of its own.
func NewProxy(upstream *url.URL, rule Rule, temp string) (*Proxy, error) {
	p := &Proxy{Upstream: upstream, Rule: rule, Temp: temp, hosts: map[string]*tls.Certificate{}}
	var err error
	if p.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Ellwand's proxy for one download"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(48 * time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &p.key.PublicKey, p.key)
	if err != nil {
		return nil, err
	}
	p.authority, err = x509.ParseCertificate(raw)
	return p, err
}

// Certificate is the proxy's own certificate, in PEM.
func (p *Proxy) Certificate() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: p.authority.Raw})
}

// Downloads lists the answers so far, in the order in which they came.
func (p *Proxy) Downloads() []Download {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.downloads)
}

// Serve serves connections until the listener is closed, and waits for those that are open.
func (p *Proxy) Serve(ctx context.Context, l net.Listener) {
	ctx, cancel := context.WithCancel(ctx)
	server := &http.Server{ErrorLog: quiet, Handler: http.HandlerFunc(p.handle), ReadHeaderTimeout: time.Minute, BaseContext: func(net.Listener) context.Context { return ctx }}
	server.Serve(l) // ends with the listener
	cancel()
	server.Close()
	p.tunnels.Wait()
}

// quiet drops what a server says of its clients' mistakes: the log has what was answered.
var quiet = log.New(io.Discard, "", 0)

// handle answers one request to the proxy.
func (p *Proxy) handle(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodConnect {
		p.forward(w, r)
		return
	}
	host, _, err := net.SplitHostPort(r.Host)
	if err != nil {
		http.Error(w, "a host and a port are needed", http.StatusBadRequest)
		return
	}
	authority := r.Host
	p.tunnels.Add(1)
	defer p.tunnels.Done()
	conn, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer conn.Close()
	defer context.AfterFunc(r.Context(), func() { conn.Close() })()
	if _, err := io.WriteString(conn, "HTTP/1.1 200 OK\r\n\r\n"); err != nil {
		return
	}
	secure := tls.Server(&bufferedConn{conn, buffered.Reader}, &tls.Config{
		MinVersion:     tls.VersionTLS12,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return p.certificate(host) },
	})
	inner := &http.Server{ErrorLog: quiet, ReadHeaderTimeout: time.Minute, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.URL.Scheme, r.URL.Host = "https", strings.TrimSuffix(authority, ":443")
		p.forward(w, r)
	}), BaseContext: func(net.Listener) context.Context { return r.Context() }}
	one := &oneListener{conn: secure, done: make(chan struct{})}
	inner.ConnState = func(_ net.Conn, s http.ConnState) {
		if s == http.StateClosed {
			one.Close()
		}
	}
	inner.Serve(one)
}

// bufferedConn reads first what was read too early.
type bufferedConn struct {
	net.Conn
	r *bufio.Reader
}

func (c *bufferedConn) Read(b []byte) (int, error) { return c.r.Read(b) }

// oneListener accepts one connection, and no other until it is closed.
type oneListener struct {
	conn net.Conn
	once sync.Once
	done chan struct{}
}

func (l *oneListener) Accept() (net.Conn, error) {
	if conn := l.conn; conn != nil {
		l.conn = nil
		return conn, nil
	}
	<-l.done
	return nil, net.ErrClosed
}

func (l *oneListener) Close() error { l.once.Do(func() { close(l.done) }); return nil }

func (l *oneListener) Addr() net.Addr { return &net.TCPAddr{} }

// certificate makes the certificate of a host.
func (p *Proxy) certificate(host string) (*tls.Certificate, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if c := p.hosts[host]; c != nil {
		return c, nil
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(int64(len(p.hosts)) + 2), Subject: pkix.Name{CommonName: host},
		NotBefore: p.authority.NotBefore, NotAfter: p.authority.NotAfter,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	if ip := net.ParseIP(host); ip != nil {
		template.IPAddresses = []net.IP{ip}
	} else {
		template.DNSNames = []string{host}
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, p.authority, &p.key.PublicKey, p.key)
	if err != nil {
		return nil, err
	}
	p.hosts[host] = &tls.Certificate{Certificate: [][]byte{raw}, PrivateKey: p.key}
	return p.hosts[host], nil
}

// passed are the headers that go from the download to the server and back: no login, and
// nothing that would have the server answer with less than all, or compress it.
var (
	passedOn   = []string{"Accept", "User-Agent", "Content-Type", "Git-Protocol", "Npm-Command"}
	passedBack = []string{"Content-Type", "Etag", "Last-Modified", "Docker-Content-Digest"}
)

// maxDownload bounds one answer, in bytes.
const maxDownload = 4 << 30

// forward asks the server, looks at the answer, and passes it on.
func (p *Proxy) forward(w http.ResponseWriter, r *http.Request) {
	d := Download{Host: r.URL.Host, Path: r.URL.Path}
	refuse := func(status int, why string) {
		d.Status, d.Refused = status, why
		p.note(d)
		http.Error(w, why, status)
	}
	get := r.Method == http.MethodGet || r.Method == http.MethodHead
	if fetches := r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "/git-upload-pack"); !get && !fetches {
		refuse(http.StatusMethodNotAllowed, "nothing is sent: "+r.Method+" is not passed on")
		return
	}
	if r.URL.Host == "" {
		refuse(http.StatusBadRequest, "this is a proxy, and the request names no host")
		return
	}
	address, public := *r.URL, true
	if r.URL.Host == registryHost {
		if p.Upstream == nil {
			refuse(http.StatusBadGateway, "no registry is configured")
			return
		}
		address, public = *p.Upstream, false
		address.Path = strings.TrimSuffix(address.Path, "/") + r.URL.Path
		address.RawPath = strings.TrimSuffix(p.Upstream.EscapedPath(), "/") + r.URL.EscapedPath()
		address.RawQuery = r.URL.RawQuery
	} else if p.Upstream != nil && r.URL.Host == p.Upstream.Host {
		public = false
	}
	res, err := p.ask(r, &address, public)
	if err != nil {
		refuse(http.StatusBadGateway, err.Error())
		return
	}
	defer res.Body.Close()
	d.Status = res.StatusCode
	file, err := os.CreateTemp(p.Temp, "download-")
	if err != nil {
		refuse(http.StatusBadGateway, err.Error())
		return
	}
	defer os.Remove(file.Name())
	defer file.Close()
	if err := d.read(file, httpclient.Limit(res.Body, address.Redacted(), maxDownload)); err != nil {
		refuse(http.StatusBadGateway, err.Error())
		return
	}
	if d.Status == http.StatusOK && r.Method == http.MethodGet {
		if err := p.Rule(d); err != nil {
			refuse(http.StatusForbidden, err.Error())
			return
		}
	}
	p.note(d)
	for _, name := range passedBack {
		if v := res.Header.Get(name); v != "" {
			w.Header().Set(name, v)
		}
	}
	w.WriteHeader(d.Status)
	io.Copy(w, file)
}

// ask sends a request to a server. One that is not configured must have a public address: a
// stranger's lock file has no business with the machines of this network.
func (p *Proxy) ask(r *http.Request, address *url.URL, public bool) (*http.Response, error) {
	out, err := http.NewRequestWithContext(r.Context(), r.Method, address.String(), http.MaxBytesReader(nil, r.Body, maxText))
	if err != nil {
		return nil, errors.New("the address cannot be used")
	}
	out.ContentLength = r.ContentLength
	for _, name := range passedOn {
		if v := r.Header.Get(name); v != "" {
			out.Header.Set(name, v)
		}
	}
	if public {
		return httpclient.DoPublic(out, httpclient.Stall)
	}
	if err := credential.Authorize(out, ""); err != nil {
		return nil, err
	}
	return httpclient.Do(out, httpclient.Stall)
}

// read takes the digests of an answer and keeps it in a file, to be read from its start.
func (d *Download) read(file *os.File, body io.Reader) error {
	sums := map[*string]hash.Hash{&d.SHA1: sha1.New(), &d.SHA256: sha256.New(), &d.SHA512: sha512.New()}
	writers := []io.Writer{file}
	for _, h := range sums {
		writers = append(writers, h)
	}
	var err error
	if d.Size, err = io.Copy(io.MultiWriter(writers...), body); err != nil {
		return err
	}
	for text, h := range sums {
		*text = hex.EncodeToString(h.Sum(nil))
	}
	_, err = file.Seek(0, io.SeekStart)
	return err
}

func (p *Proxy) note(d Download) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.downloads) < maxNoted {
		p.downloads = append(p.downloads, d)
	}
	if p.Log != nil {
		what := fmt.Sprintf("%d, %d bytes, sha256 %s", d.Status, d.Size, d.SHA256)
		if d.Refused != "" {
			what = "refused: " + d.Refused
		}
		fmt.Fprintf(p.Log, "proxy: %s%s: %s\n", d.Host, d.Path, what)
	}
}

// maxNoted bounds how many answers are noted.
const maxNoted = 100_000
