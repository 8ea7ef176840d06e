package fact

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Bytes formats a size in the binary units of IEC 80000-13.
func Bytes(n int64) string {
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	f, unit := float64(n), ""
	for _, unit = range []string{"KiB", "MiB", "GiB", "TiB"} {
		if f /= 1024; f < 1024 {
			break
		}
	}
	return fmt.Sprintf("%.1f %s", f, unit)
}

// Count formats a number with its noun.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// IsVisible reports whether a character shows as itself, and changes nothing
// else. Formatting characters, such as those that turn the direction of
// writing, do not.
func IsVisible(r rune) bool { return unicode.IsPrint(r) || unicode.Is(unicode.Zs, r) }

// WriteVisible writes a character, or how it would be written in a program.
func WriteVisible(b *strings.Builder, r rune, text string) {
	switch {
	case r == utf8.RuneError && len(text) == 1, r < 0x80 && !IsVisible(r):
		fmt.Fprintf(b, "\\x%02x", text[0])
	case IsVisible(r):
		b.WriteString(text)
	case r > 0xffff:
		fmt.Fprintf(b, "\\U%08x", r)
	default:
		fmt.Fprintf(b, "\\u%04x", r)
	}
}

// Visible makes one line of text from elsewhere, such as a file's name, safe to
// print: what does not show as itself is written as an escape, and so is a
// line's end.
func Visible(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		if r == '\t' {
			b.WriteByte('\t')
		} else {
			WriteVisible(&b, r, s[i:i+n])
		}
		i += n
	}
	return b.String()
}
