package files

import (
	"bytes"
	"errors"
	"io"
	"os"
)

// hole is the least run of zeros that is not written.
const hole = 64 << 10

var zeros [hole]byte

// CopySparse copies size bytes to a new file and leaves out long runs of zeros,
// which read the same and take no space.
func CopySparse(f *os.File, r io.Reader, size int64) error {
	if size < hole {
		_, err := io.Copy(f, r)
		return err
	}
	buf := make([]byte, hole)
	left := false // something was left out at the end
	for {
		n, err := io.ReadFull(r, buf)
		if n == hole && bytes.Equal(buf, zeros[:]) {
			if _, err := f.Seek(hole, io.SeekCurrent); err != nil {
				return err
			}
			left = true
		} else if n > 0 {
			if _, err := f.Write(buf[:n]); err != nil {
				return err
			}
			left = false
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break
		}
		if err != nil {
			return err
		}
	}
	if left {
		return f.Truncate(size)
	}
	return nil
}
