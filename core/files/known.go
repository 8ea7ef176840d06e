package files

import (
	"context"
	"encoding/json"
	"maps"
	"os"
	"syscall"
	"time"
)

// Known remembers digests of large files in a file of its own, by what tells that they are
// still the same: size, time and inode.
type Known struct{ Path string }

// knownFile is what was seen of a file.
type knownFile struct {
	Size     int64  `json:"size"`
	Modified int64  `json:"modified"` // nanoseconds
	Changed  int64  `json:"changed"`  // of the inode, nanoseconds
	Inode    uint64 `json:"inode"`
	Device   uint64 `json:"device"`
	SHA256   string `json:"sha256"`
}

const (
	// maxKnown bounds how many files are remembered.
	maxKnown = 500
	// settled is how long ago a file must have changed: clocks are coarse, and a file could
	// change twice within one tick.
	settled = 2 * time.Second
)

// SHA256 returns the digest of a file's contents, in hexadecimal, and reads them only if the
// file may have changed since.
func (k Known) SHA256(ctx context.Context, path string) (string, error) {
	now, err := look(path)
	if err != nil {
		return "", err
	}
	known := k.read()
	if was, ok := known[path]; ok {
		now.SHA256 = was.SHA256
		if now == was {
			return was.SHA256, nil
		}
	}
	if now.SHA256, err = SHA256(ctx, path); err != nil {
		return "", err
	}
	after, err := look(path)
	if err != nil {
		return "", err
	}
	after.SHA256 = now.SHA256
	if after == now && time.Since(time.Unix(0, max(now.Changed, now.Modified))) > settled {
		k.remember(path, now)
	}
	return now.SHA256, nil
}

func look(path string) (knownFile, error) {
	info, err := os.Stat(path)
	if err != nil {
		return knownFile{}, err
	}
	f := knownFile{Size: info.Size(), Modified: info.ModTime().UnixNano()}
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		f.Inode, f.Device, f.Changed = st.Ino, uint64(st.Dev), st.Ctim.Nano()
	}
	return f, nil
}

// read returns what is remembered; what cannot be read is forgotten.
func (k Known) read() map[string]knownFile {
	known := map[string]knownFile{}
	if data, err := os.ReadFile(k.Path); err != nil || json.Unmarshal(data, &known) != nil {
		return map[string]knownFile{}
	}
	return known
}

// remember notes a file. That it cannot costs time later, no more.
func (k Known) remember(path string, f knownFile) {
	known := k.read()
	if len(known) >= maxKnown {
		maps.DeleteFunc(known, func(path string, _ knownFile) bool { _, err := os.Stat(path); return err != nil })
	}
	if len(known) >= maxKnown {
		clear(known)
	}
	known[path] = f
	if data, err := json.Marshal(known); err == nil {
		Write(k.Path, data)
	}
}
