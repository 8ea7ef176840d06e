package fact

import (
	"crypto/sha256"
	"encoding/hex"
)

// IsHex reports whether s consists of n lower-case hexadecimal digits.
func IsHex(s string, n int) bool {
	if len(s) != n {
		return false
	}
	for i := range n {
		if c := s[i]; (c < '0' || c > '9') && (c < 'a' || c > 'f') {
			return false
		}
	}
	return true
}

// SHA256 returns the SHA-256 digest of data in hexadecimal.
func SHA256(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// IsSHA256 reports whether s is a SHA-256 digest in hexadecimal.
func IsSHA256(s string) bool { return IsHex(s, 64) }

// IsCommit reports whether s is the whole name of a git commit: a SHA-1 or SHA-256
// digest in hexadecimal.
func IsCommit(s string) bool { return IsHex(s, 40) || IsHex(s, 64) }

// IsAccountName reports whether s can be the name of a user or group.
func IsAccountName(s string) bool {
	if s == "" || len(s) > 31 {
		return false
	}
	for i := range len(s) {
		c := s[i]
		letter := c >= 'a' && c <= 'z' || c == '_'
		if !letter && (i == 0 || (c < '0' || c > '9') && c != '-') {
			return false
		}
	}
	return true
}

// IsMode reports whether s is a mode of four octal digits.
func IsMode(s string) bool {
	if len(s) != 4 {
		return false
	}
	for i := range len(s) {
		if s[i] < '0' || s[i] > '7' {
			return false
		}
	}
	return true
}
