package sandbox

import (
	"net"
	"net/http"
	"strings"
	"testing"
)

// A command with a proxy reaches that, and nothing else.
func TestProxy(t *testing.T) {
	outside, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer outside.Close()
	b := newBox(t)
	b.command.Proxy = func(l net.Listener) {
		http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write([]byte("asked for " + r.URL.String() + "\n")) }))
	}
	_, port, _ := net.SplitHostPort(outside.Addr().String())
	script := `perl -MIO::Socket::INET -e '
my $s = IO::Socket::INET->new("` + ProxyAddress + `") or die "no proxy: $!";
print $s "GET http://tide.example/table HTTP/1.0\r\n\r\n"; print while <$s>;
print IO::Socket::INET->new("127.0.0.1:` + port + `") ? "out" : "shut in";'`
	if _, err := b.run(t.Context(), script); err != nil || !strings.Contains(b.out.String(), "asked for http://tide.example/table") || !strings.Contains(b.out.String(), "shut in") {
		t.Errorf("%v: %s", err, b.out.String())
	}
	// The next one has the address to itself again, and a sandbox that cannot be made ends too.
	if _, err := b.run(t.Context(), "true"); err != nil {
		t.Error(err)
	}
	b.command.Files = "/proc/nowhere"
	if _, err := b.run(t.Context(), "true"); err == nil {
		t.Error("a sandbox without a directory of its own")
	}
}
