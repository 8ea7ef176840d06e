package oci

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	ggcr "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	ggcrlayout "github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"
	"github.com/google/go-containerregistry/pkg/v1/types"

	"ellwand.example/core/fact"
	"ellwand.example/core/httpclient"
)

// Registry is access to registries (OCI Distribution Specification 1.1). Credentials come from
// the files that container tools share: config.json and auth.json.
type Registry struct {
	// Advance is called with the number of bytes sent so far; it may be nil.
	Advance func(sent int64)
}

// RegistryError is an answer of a registry, or that there is none.
type RegistryError struct {
	Reference string
	Err       error
	// Refused means that the registry wants a login, or does not allow it.
	Refused bool
}

func (e *RegistryError) Error() string {
	switch {
	case e.Refused:
		return fmt.Sprintf("the registry of %s refuses it: %v; credentials are read from ~/.docker/config.json and the containers' auth.json", e.Reference, e.Err)
	default:
		return fmt.Sprintf("%s: %v", e.Reference, e.Err)
	}
}

func (e *RegistryError) Unwrap() error { return e.Err }

// Status is that of another machine.
func (e *RegistryError) Status() fact.Status { return fact.StatusMachine }

func wrapRegistry(reference string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	e := &RegistryError{Reference: reference, Err: err}
	var answer *transport.Error
	if errors.As(err, &answer) && (answer.StatusCode == http.StatusUnauthorized || answer.StatusCode == http.StatusForbidden) {
		e.Refused = true
	}
	return e
}

func (r Registry) options(ctx context.Context) []remote.Option {
	return []remote.Option{remote.WithContext(ctx), remote.WithAuthFromKeychain(authn.DefaultKeychain), remote.WithTransport(httpclient.Transport()), remote.WithUserAgent("ellwand")}
}

// ParseReference checks what an image is called in a registry.
func ParseReference(reference string) (name.Reference, error) {
	ref, err := name.ParseReference(reference, name.WithDefaultTag("latest"))
	if err != nil {
		return nil, fact.Errorf(fact.StatusUsage, "%q is no image in a registry: %v; write HOST/NAME:TAG", reference, err)
	}
	first, _, more := strings.Cut(reference, "/")
	if !more || !strings.ContainsAny(first, ".:") && first != "localhost" {
		return nil, fact.Errorf(fact.StatusUsage, "%q does not name its registry: write HOST/NAME:TAG", reference)
	}
	return ref, nil
}

// Push sends what a layout holds to a registry: blobs that it lacks, the manifests, and then the
// tag, which names the image, or the index of the images for several architectures. It
// returns the digest that was tagged.
func (r Registry) Push(ctx context.Context, dir, reference string) (digest string, err error) {
	ref, err := ParseReference(reference)
	if err != nil {
		return "", err
	}
	index, err := ggcrlayout.ImageIndexFromPath(dir)
	if err != nil {
		return "", err
	}
	manifest, err := index.IndexManifest()
	if err != nil {
		return "", err
	}
	options := r.options(ctx)
	if r.Advance != nil {
		updates := make(chan ggcr.Update, 64)
		stop, done := make(chan struct{}), make(chan struct{})
		go func() {
			defer close(done)
			r.advance(updates, stop)
		}()
		options = append(options, remote.WithProgress(updates))
		// The library closes the channel only if it began to send.
		defer func() { close(stop); <-done }()
	}
	// The documents about the image come last: they name it.
	var documents []ggcr.Descriptor
	for _, d := range manifest.Manifests {
		if d.ArtifactType != "" {
			documents = append(documents, d)
			continue
		}
		if digest != "" {
			return "", fact.Errorf(fact.StatusInput, "%s holds several images, and no index of them", dir)
		}
		digest = d.Digest.String()
		if err := r.pushOne(index, d, ref, options); err != nil {
			return "", wrapRegistry(reference, err)
		}
	}
	if digest == "" {
		return "", fact.Errorf(fact.StatusInput, "%s holds no image", dir)
	}
	for _, d := range documents {
		if err := r.pushOne(index, d, ref.Context().Digest(d.Digest.String()), r.options(ctx)); err != nil {
			return digest, wrapRegistry(reference, err)
		}
	}
	return digest, nil
}

// advance passes on how much was sent, until there is no more or it is stopped.
func (r Registry) advance(updates <-chan ggcr.Update, stop <-chan struct{}) {
	for {
		select {
		case u, ok := <-updates:
			if !ok {
				return
			}
			if u.Error == nil {
				r.Advance(u.Complete)
			}
		case <-stop:
			return
		}
	}
}

func (r Registry) pushOne(index ggcr.ImageIndex, d ggcr.Descriptor, ref name.Reference, options []remote.Option) error {
	if d.MediaType == types.OCIImageIndex {
		inner, err := index.ImageIndex(d.Digest)
		if err != nil {
			return err
		}
		return remote.WriteIndex(ref, inner, options...)
	}
	image, err := index.Image(d.Digest)
	if err != nil {
		return err
	}
	return remote.Write(ref, image, options...)
}

// pulledName is what the layout of an image is called, by the SHA-256 of its manifest.
func pulledName(sha256 string) string { return "pulled-" + sha256[:32] }

// Pulled is the layout of an image that Pull fetched before; empty if it did not.
func Pulled(all, sha256 string) string {
	dir := filepath.Join(all, pulledName(sha256))
	if _, err := os.Stat(dir); err != nil {
		return ""
	}
	return dir
}

// Pull fetches the image for an architecture, as Go calls it, into a layout below a directory,
// which is named by the digest, and returns that. What is there is not fetched again.
func (r Registry) Pull(ctx context.Context, reference, architecture, all string) (dir string, err error) {
	ref, err := ParseReference(reference)
	if err != nil {
		return "", err
	}
	image, err := remote.Image(ref, append(r.options(ctx), remote.WithPlatform(ggcr.Platform{OS: "linux", Architecture: architecture}))...)
	if err != nil {
		return "", wrapRegistry(reference, err)
	}
	digest, err := image.Digest()
	if err != nil {
		return "", wrapRegistry(reference, err)
	}
	if dir := Pulled(all, digest.Hex); dir != "" {
		return dir, nil
	}
	dir = filepath.Join(all, pulledName(digest.Hex))
	if err := os.MkdirAll(all, 0o755); err != nil {
		return "", err
	}
	temp, err := os.MkdirTemp(all, ".new-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(temp)
	p, err := ggcrlayout.Write(temp, empty.Index)
	if err == nil {
		err = p.AppendImage(image, ggcrlayout.WithPlatform(ggcr.Platform{OS: "linux", Architecture: architecture}))
	}
	if err != nil {
		return "", wrapRegistry(reference, err)
	}
	if err := os.Chmod(temp, 0o755); err != nil {
		return "", err
	}
	return dir, os.Rename(temp, dir)
}
