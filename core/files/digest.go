package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"

	"ellwand.example/core/cancel"
)

// SHA256 returns the digest of a file's contents, in hexadecimal.
func SHA256(ctx context.Context, path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, cancel.Reader(ctx, f)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
