package fact

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// amount is a number of bytes with a binary unit.
var amount = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)?) ?([KMGT]?)(?:i?B)?$`)

// ParseBytes reads an amount such as "8 GiB", "500M" or "4096"; units are
// powers of 1024.
func ParseBytes(s string) (int64, error) {
	m := amount.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return 0, fmt.Errorf("%q is not an amount", s)
	}
	n, err := strconv.ParseFloat(m[1], 64)
	if err != nil {
		return 0, err
	}
	for range max(0, strings.Index(" KMGT", m[2])) {
		n *= 1024
	}
	if n > 1<<60 {
		return 0, fmt.Errorf("%q is too large", s)
	}
	return int64(n), nil
}
