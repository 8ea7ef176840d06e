package repo

import (
	"bufio"
	"bytes"
	"crypto/md5"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"ellwand.example/core/progress"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

// bucketServer is a fake of a server that speaks S3: path-style addresses,
// whole objects, conditional writes, and the second kind of listing.
type bucketServer struct {
	mu      sync.Mutex
	objects map[string][]byte
	parts   map[string][]byte     // of uploads in parts: key and number
	slow    func(r *http.Request) // called before each answer
}

func newBucketServer(t *testing.T) (*bucketServer, string) {
	s := &bucketServer{objects: map[string][]byte{}, parts: map[string][]byte{}}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	t.Setenv("ELLWAND_REPOSITORY_USER", "ines")
	t.Setenv("ELLWAND_REPOSITORY_PASSWORD", "ebb and flow")
	return s, "s3+" + server.URL + "/harbour/packages"
}

func tag(data []byte) string {
	sum := md5.Sum(data)
	return `"` + hex.EncodeToString(sum[:]) + `"`
}

func (s *bucketServer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if s.slow != nil {
		s.slow(r)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	fail := func(status int, code string) {
		w.Header().Set("Content-Type", "application/xml")
		w.WriteHeader(status)
		fmt.Fprintf(w, "<Error><Code>%s</Code><Message>%s</Message></Error>", code, code)
	}
	bucket, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	data, there := s.objects[key]
	switch {
	case !strings.Contains(r.Header.Get("Authorization"), "Credential=ines/"):
		fail(http.StatusForbidden, "AccessDenied")
	case bucket != "harbour":
		fail(http.StatusNotFound, "NoSuchBucket")
	case r.Method == http.MethodGet && r.URL.Query().Get("list-type") == "2":
		s.list(w, r.URL.Query().Get("prefix"))
	case r.Method == http.MethodPost && r.URL.Query().Has("uploads"):
		fmt.Fprintf(w, "<InitiateMultipartUploadResult><UploadId>one</UploadId></InitiateMultipartUploadResult>")
	case r.Method == http.MethodPost:
		var whole []byte
		for n := 1; s.parts[fmt.Sprint(key, n)] != nil; n++ {
			whole = append(whole, s.parts[fmt.Sprint(key, n)]...)
		}
		s.objects[key] = whole
		fmt.Fprintf(w, "<CompleteMultipartUploadResult><Bucket>harbour</Bucket><ETag>%s</ETag></CompleteMultipartUploadResult>", tag(whole))
	case r.Method == http.MethodPut && r.URL.Query().Has("partNumber"):
		body, err := objectBody(r)
		if err != nil {
			fail(http.StatusBadRequest, "IncompleteBody")
			return
		}
		s.parts[key+r.URL.Query().Get("partNumber")] = body
		w.Header().Set("ETag", tag(body))
	case r.Method == http.MethodPut:
		if want := r.Header.Get("If-Match"); want != "" && (!there || strings.Trim(want, `"`) != strings.Trim(tag(data), `"`)) ||
			r.Header.Get("If-None-Match") == "*" && there {
			fail(http.StatusPreconditionFailed, "PreconditionFailed")
			return
		}
		body, err := objectBody(r)
		if err != nil {
			fail(http.StatusBadRequest, "IncompleteBody")
			return
		}
		s.objects[key] = body
		w.Header().Set("ETag", tag(body))
	case r.Method == http.MethodDelete:
		delete(s.objects, key)
		w.WriteHeader(http.StatusNoContent)
	case !there:
		fail(http.StatusNotFound, "NoSuchKey")
	default:
		w.Header().Set("ETag", tag(data))
		http.ServeContent(w, r, "", time.Unix(1e9, 0), bytes.NewReader(data))
	}
}

// objectBody reads a body in plain or in signed chunks.
func objectBody(r *http.Request) ([]byte, error) {
	if !strings.HasPrefix(r.Header.Get("X-Amz-Content-Sha256"), "STREAMING-") {
		return io.ReadAll(r.Body)
	}
	var out []byte
	b := bufio.NewReader(r.Body)
	for {
		head, err := b.ReadString('\n')
		if err != nil {
			return nil, err
		}
		size, err := strconv.ParseInt(strings.Split(strings.TrimSpace(head), ";")[0], 16, 64)
		if err != nil || size == 0 {
			return out, err
		}
		chunk := make([]byte, size+2)
		if _, err := io.ReadFull(b, chunk); err != nil {
			return nil, err
		}
		out = append(out, chunk[:size]...)
	}
}

func (s *bucketServer) list(w http.ResponseWriter, prefix string) {
	type content struct {
		Key          string
		Size         int
		LastModified string
		ETag         string
	}
	result := struct {
		XMLName  xml.Name `xml:"ListBucketResult"`
		KeyCount int
		Contents []content
	}{}
	for key, data := range s.objects {
		if strings.HasPrefix(key, prefix) {
			result.Contents = append(result.Contents, content{key, len(data), time.Now().Add(-2 * time.Hour).UTC().Format(time.RFC3339), tag(data)})
		}
	}
	slices.SortFunc(result.Contents, func(a, b content) int { return strings.Compare(a.Key, b.Key) })
	result.KeyCount = len(result.Contents)
	w.Header().Set("Content-Type", "application/xml")
	xml.NewEncoder(w).Encode(result)
}

func openBucket(t *testing.T, address string) *Repository {
	t.Helper()
	r, err := OpenAt(address, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// TestBucket takes a repository in a bucket through its life.
func TestBucket(t *testing.T) {
	s, address := newBucketServer(t)
	r := openBucket(t, address)
	var none *storage.NotRepositoryError
	if _, err := r.Pointer(ctx); !errors.As(err, &none) {
		t.Fatalf("an empty bucket: %v", err)
	}
	publish(t, r, "testing", samples(t, "libtide 1-1; provides soname/libtide.so.1", "gauge 1-1; needs soname/libtide.so.1")...)
	publish(t, r, "testing", samples(t, "buoy 1-1")...)
	large := strings.NewReader(strings.Repeat("a tide and an ebb", 1<<20))
	if err := r.Storage.Put(ctx, "packages/large", large); err != nil || len(s.objects["packages/packages/large"]) != 17<<20 {
		t.Errorf("a file in parts: %d bytes, %v", len(s.objects["packages/packages/large"]), err)
	}
	if got := identities(t, openBucket(t, address), "testing"); got != "buoy@1-1 gauge@1-1 libtide@1-1" {
		t.Errorf("it holds %s", got)
	}
	contents, err := r.List(ctx, "testing")
	if err != nil {
		t.Fatal(err)
	}
	buoy := contents[0].Records[0]
	if file, err := r.Copy(ctx, buoy, t.TempDir()); err != nil || filepath.Base(file) != "buoy@1-1.ell" {
		t.Errorf("copy: %s, %v", file, err)
	}
	dir := t.TempDir()
	buoy.SHA256 = strings.Repeat("0", 64)
	var damaged *index.DamagedError
	if _, err := r.Copy(ctx, buoy, dir); !errors.As(err, &damaged) {
		t.Errorf("a package that is another one: %v", err)
	}
	if left, _ := os.ReadDir(dir); len(left) > 0 {
		t.Errorf("%v is left of it", left)
	}
	var refused *RefusedError
	if _, err := r.Retire(ctx, "testing", []string{"libtide"}, ChangeOptions{}, progress.None); !errors.As(err, &refused) {
		t.Errorf("the gate: %v", err)
	}
	if _, err := r.Retire(ctx, "testing", []string{"buoy"}, ChangeOptions{}, progress.None); err != nil {
		t.Error(err)
	}
	got, err := r.Prune(ctx, Keep{1, 0}, false, progress.None)
	if err != nil || len(got.Packages) != 1 || got.Others != 1 || got.Snapshots != 2 {
		t.Errorf("prune: %+v, %v", got, err)
	}
	v, err := r.Verify(ctx, progress.None)
	if err != nil || len(v.Damaged)+len(v.Unnamed) != 0 || v.Packages != 2 {
		t.Errorf("verify: %+v, %v", v, err)
	}
	for key := range s.objects {
		if !strings.HasPrefix(key, "packages/") {
			t.Errorf("%s is not below the prefix", key)
		}
	}
	if _, err := r.Storage.Open(ctx, "listings/none"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a file that is not there: %v", err)
	}
}

// Publishers of a bucket have no lock: whoever comes second begins again.
func TestBucketPublishers(t *testing.T) {
	_, address := newBucketServer(t)
	var wg sync.WaitGroup
	for p := range 4 {
		r := openBucket(t, address)
		var files []string
		for i := range 5 {
			files = append(files, sample(t, t.TempDir(), fmt.Sprintf("p%d-%d 1-1", p, i)))
		}
		wg.Go(func() {
			for _, f := range files {
				if _, err := r.Publish(ctx, "testing", []string{f}, ChangeOptions{}, progress.None); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	r := openBucket(t, address)
	if n := len(strings.Fields(identities(t, r, "testing"))); n != 20 {
		t.Errorf("%d packages of 20", n)
	}
	if p, err := r.Pointer(ctx); err != nil || p.Serial != 20 {
		t.Errorf("serial %d, %v", p.Serial, err)
	}
}

func TestBucketRefusals(t *testing.T) {
	_, address := newBucketServer(t)
	for _, c := range []struct{ address, user, want string }{
		{strings.Replace(address, "/harbour/", "/elsewhere/", 1), "ines", "the bucket does not exist"},
		{address, "nobody", "ELLWAND_REPOSITORY_USER"},
		{"s3+http://127.0.0.1:1/harbour", "ines", "does not answer"},
		{"s3+http://files.saltmarsh.example/harbour", "ines", "over s3+https"},
		{"s3+https://files.saltmarsh.example/", "ines", "names no bucket"},
		{"gopher://files.saltmarsh.example/", "ines", "a repository is in a directory, or at"},
	} {
		t.Setenv("ELLWAND_REPOSITORY_USER", c.user)
		r, err := OpenAt(c.address, "")
		if err == nil {
			_, err = r.Publish(ctx, "testing", samples(t, "tide 1-1"), ChangeOptions{}, progress.None)
		}
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, not %q", c.address, err, c.want)
		}
	}
}
