package source

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"

	"ellwand.example/core/credential"
	"ellwand.example/core/httpclient"
)

// Team is a store that a team shares over HTTP. The file with the digest
// abcd… is at sha256/ab/abcd… below its address: GET reads it, and PUT, with
// the digest in Repr-Digest (RFC 9530), adds it.
type Team struct{ URL string }

func (t Team) address(digest string) string {
	return strings.TrimSuffix(t.URL, "/") + "/sha256/" + digest[:2] + "/" + digest
}

// fromTeam copies a file from the shared cache; ok is false if it has none.
func (f *Fetcher) fromTeam(ctx context.Context, name, digest string) (ok bool, err error) {
	if f.Team.URL == "" {
		return false, nil
	}
	_, err = f.download(ctx, f.Team.address(digest), name, digest)
	var status *HTTPError
	var wrong *DigestError
	switch {
	case err == nil:
		return true, nil
	case ctx.Err() != nil:
		return false, ctx.Err()
	case errors.As(err, &status) && status.Code == http.StatusNotFound:
		return false, nil
	case errors.As(err, &wrong):
		f.Progress.Note(fmt.Sprintf("the shared cache has another file as %s: it is ignored, and somebody should find out why", digest))
		return false, nil
	}
	f.Progress.Note(fmt.Sprintf("the shared cache cannot be read: %v", err))
	return false, nil
}

// toTeam adds a file of the cache to the team's. That it cannot is no reason
// to stop: a user who may not write there is told once.
func (f *Fetcher) toTeam(ctx context.Context, digest string) {
	if f.Team.URL == "" {
		return
	}
	if err := f.put(ctx, digest); err != nil && ctx.Err() == nil {
		note := fmt.Sprintf("not added to the shared cache: %v", err)
		var status *HTTPError
		if errors.As(err, &status) && (status.Code == http.StatusUnauthorized || status.Code == http.StatusForbidden) {
			note += fmt.Sprintf(" (%s_TOKEN, or %s_USER and %s_PASSWORD, or ~/.netrc)", variables, variables, variables)
		}
		f.Progress.Note(note)
	}
}

func (f *Fetcher) put(ctx context.Context, digest string) error {
	// What was damaged since it came must not spread.
	if err := f.Cache.Verify(ctx, digest); err != nil {
		return err
	}
	address := f.Team.address(digest)
	head, err := http.NewRequestWithContext(ctx, http.MethodHead, address, nil)
	if err != nil {
		return err
	}
	if res, err := f.do(head); err == nil {
		res.Body.Close()
		if res.StatusCode == http.StatusOK {
			return nil
		}
	}
	file, err := os.Open(f.Cache.Path(digest))
	if err != nil {
		return err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	sum, err := hex.DecodeString(digest)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPut, address, file)
	if err != nil {
		return err
	}
	req.ContentLength = info.Size()
	req.Header.Set("Content-Type", "application/octet-stream")
	req.Header.Set("Repr-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum)+":")
	res, err := f.do(req)
	if err != nil {
		return err
	}
	res.Body.Close()
	if res.StatusCode/100 != 2 {
		return &HTTPError{address, res.StatusCode, req.Header.Get("Authorization") != ""}
	}
	return nil
}

// do sends a request with the credentials that belong to its host.
func (f *Fetcher) do(req *http.Request) (*http.Response, error) {
	if err := f.authorize(req); err != nil {
		return nil, err
	}
	return httpclient.Do(req, f.Stall)
}

// variables begins the names of those that hold credentials for the team's
// store.
const variables = "ELLWAND_SOURCES"

// authorize adds credentials: for the shared cache those of the environment,
// and otherwise those that the user's .netrc has for the host.
func (f *Fetcher) authorize(req *http.Request) error {
	if f.Team.URL != "" && strings.HasPrefix(req.URL.String(), strings.TrimSuffix(f.Team.URL, "/")+"/") {
		return credential.Authorize(req, variables)
	}
	return credential.Authorize(req, "")
}
