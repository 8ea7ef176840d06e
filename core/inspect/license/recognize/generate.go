//go:build ignore

// Generate writes texts.tar.zst from the license texts of the classifier's module.
package main

import (
	"archive/tar"
	"bytes"
	"io/fs"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"
)

func main() {
	module, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/google/licenseclassifier/v2").Output()
	if err != nil {
		log.Fatal(err)
	}
	texts := os.DirFS(filepath.Join(strings.TrimSpace(string(module)), "assets"))
	var packed bytes.Buffer
	z, err := zstd.NewWriter(&packed, zstd.WithEncoderLevel(zstd.SpeedBestCompression), zstd.WithWindowSize(8<<20))
	if err != nil {
		log.Fatal(err)
	}
	w := tar.NewWriter(z)
	err = fs.WalkDir(texts, ".", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.Count(path, "/") != 2 {
			return err
		}
		data, err := fs.ReadFile(texts, path)
		if err != nil {
			return err
		}
		if err := w.WriteHeader(&tar.Header{Name: path, Size: int64(len(data)), Mode: 0o644, Format: tar.FormatUSTAR}); err != nil {
			return err
		}
		_, err = w.Write(data)
		return err
	})
	for _, err := range []error{err, w.Close(), z.Close(), os.WriteFile("texts.tar.zst", packed.Bytes(), 0o644)} {
		if err != nil {
			log.Fatal(err)
		}
	}
}
