package source

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"ellwand.example/core/progress"
	"ellwand.example/core/recipe"
)

// teamServer is a fake of a shared cache: files in memory, written by those
// who have the token.
type teamServer struct {
	*httptest.Server
	mu    sync.Mutex
	files map[string]string
	puts  int
}

func newTeamServer(t *testing.T) *teamServer {
	s := &teamServer{files: map[string]string{}}
	s.Server = httptest.NewServer(s)
	t.Cleanup(s.Close)
	return s
}

func (s *teamServer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch r.Method {
	case http.MethodGet, http.MethodHead:
		text, ok := s.files[r.URL.Path]
		if !ok {
			http.NotFound(w, r)
			return
		}
		io.WriteString(w, text)
	case http.MethodPut:
		if user, password, _ := r.BasicAuth(); r.Header.Get("Authorization") != "Bearer tide" && user+password != "inesebb" {
			http.Error(w, "who are you?", http.StatusUnauthorized)
			return
		}
		data, _ := io.ReadAll(r.Body)
		sum := sha256.Sum256(data)
		if r.Header.Get("Repr-Digest") != "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":" || !strings.HasSuffix(r.URL.Path, hex.EncodeToString(sum[:])) {
			http.Error(w, "not what it says", http.StatusBadRequest)
			return
		}
		s.files[r.URL.Path] = string(data)
		s.puts++
		w.WriteHeader(http.StatusCreated)
	}
}

// notes gathers what a fetcher tells.
type notes struct {
	progress.Sink
	said []string
}

func (n *notes) Note(text string) { n.said = append(n.said, text) }

func TestTeam(t *testing.T) {
	team := newTeamServer(t)
	asked := 0
	upstream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked++
		io.WriteString(w, "tides")
	}))
	defer upstream.Close()
	digest := fmt.Sprintf("%x", sha256.Sum256([]byte("tides")))
	r := &recipe.Recipe{Sources: []recipe.Source{{URL: upstream.URL + "/tide.tar", SHA256: digest}}}
	netrc := filepath.Join(t.TempDir(), "netrc")
	t.Setenv("NETRC", netrc)
	fetch := func() (string, *Fetcher) {
		t.Helper()
		n := &notes{Sink: progress.None}
		f := NewFetcher(Cache{t.TempDir()}, n)
		f.Team.URL = team.URL + "/"
		f.Pause = 0
		if got, err := f.Fetch(context.Background(), r, 0); err != nil || got.SHA256 != digest {
			t.Fatalf("%+v, %v", got, err)
		}
		return strings.Join(n.said, "; "), f
	}
	if said, _ := fetch(); asked != 1 || team.puts != 0 || !strings.Contains(said, "not added to the shared cache") || !strings.Contains(said, "401") {
		t.Errorf("without credentials: upstream was asked %d times, the team given %d; %s", asked, team.puts, said)
	}
	os.WriteFile(netrc, []byte("machine 127.0.0.1 login ines password ebb\n"), 0o600)
	if said, _ := fetch(); asked != 2 || team.puts != 1 || said != "" {
		t.Errorf("with .netrc: upstream %d, team %d; %s", asked, team.puts, said)
	}
	if said, f := fetch(); asked != 2 || said != "" {
		t.Errorf("what the team has: upstream %d; %s", asked, said)
	} else if all, err := f.Cache.List(); err != nil || len(all) != 1 || all[0].Name != "tide.tar" || all[0].Size != 5 {
		t.Errorf("the cache lists %+v, %v", all, err)
	}
	for path := range team.files {
		team.files[path] = "ebbs!"
	}
	if said, _ := fetch(); asked != 3 || !strings.Contains(said, "another file") {
		t.Errorf("a damaged file of the team's: upstream %d; %s", asked, said)
	}
	team.Close()
	if said, _ := fetch(); asked != 4 || !strings.Contains(said, "cannot be read") {
		t.Errorf("a shared cache that is away: upstream %d; %s", asked, said)
	}
	os.WriteFile(netrc, []byte("machine team.example login ines password ebb\n"), 0o600)
	clear := &Fetcher{Team: Team{"http://team.example"}}
	req, _ := http.NewRequest(http.MethodGet, "http://team.example/x", nil)
	if err := clear.authorize(req); err == nil || !strings.Contains(err.Error(), "plain http") {
		t.Errorf("credentials in the clear: %v, %v", err, req.Header)
	}
	t.Setenv("ELLWAND_SOURCES_TOKEN", "tide")
	req, _ = http.NewRequest(http.MethodGet, "https://elsewhere.example/x", nil)
	if err := clear.authorize(req); err != nil || req.Header.Get("Authorization") != "" {
		t.Errorf("the token is sent to others: %v, %v", err, req.Header)
	}
}
