package fact

import (
	"fmt"
	"io/fs"
	"strconv"
)

// special are the bits of a mode other than permissions.
var special = map[uint64]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky}

// ParseMode reads a mode of valid octal digits.
func ParseMode(s string) fs.FileMode {
	n, _ := strconv.ParseUint(s, 8, 32)
	m := fs.FileMode(n) & fs.ModePerm
	for bit, mode := range special {
		if n&bit != 0 {
			m |= mode
		}
	}
	return m
}

// ModeBits is a mode in the form of chmod(2) and tar.
func ModeBits(m fs.FileMode) int64 {
	n := uint64(m & fs.ModePerm)
	for bit, mode := range special {
		if m&mode != 0 {
			n |= bit
		}
	}
	return int64(n)
}

// Octal writes a mode as four octal digits.
func Octal(m fs.FileMode) string { return fmt.Sprintf("%04o", ModeBits(m)) }
