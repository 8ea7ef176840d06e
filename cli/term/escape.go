package term

import (
	"crypto/rand"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"ellwand.example/core/fact"
)

// Text from elsewhere can hold sequences that make a terminal change its
// title, its clipboard, or what it shows; and directions that show a name
// other than it is. A Writer therefore writes no control character but a line's
// end, a tab, and the colours that Style made, which carry a mark that nobody
// outside this process knows.

// mark is a parameter of Style's sequences; escape takes it out again.
var mark = func() string {
	var b [8]byte
	rand.Read(b[:])
	return fmt.Sprintf(";%d", uint64(b[0])|uint64(b[1])<<8|uint64(b[2])<<16|uint64(b[3])<<24|uint64(b[4])<<32|uint64(b[5])<<40|1<<50)
}()

// own makes a colour's sequence one of this process's.
func own(sequence string) string { return strings.ReplaceAll(sequence, "m", mark+"m") }

// isOwn returns the length of a sequence of Style's at the start of s, and the
// sequence without its mark; 0 if there is none.
func isOwn(s string) (length int, sequence string) {
	if !strings.HasPrefix(s, "\x1b[") {
		return 0, ""
	}
	end := strings.IndexByte(s, 'm')
	if end < 0 {
		return 0, ""
	}
	parameters, ok := strings.CutSuffix(s[2:end], mark)
	if !ok || strings.Trim(parameters, "0123456789;") != "" {
		return 0, ""
	}
	return end + 1, "\x1b[" + parameters + "m"
}

// escape makes text safe for a terminal.
func escape(s string) string {
	clean := true
	for i := 0; i < len(s) && clean; i++ {
		clean = s[i] < utf8.RuneSelf && s[i] >= ' ' && s[i] != 0x7f || s[i] == '\n' || s[i] == '\t'
	}
	if clean {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		if n, sequence := isOwn(s[i:]); n > 0 {
			b.WriteString(sequence)
			i += n
			continue
		}
		r, n := utf8.DecodeRuneInString(s[i:])
		if r == '\n' || r == '\t' {
			b.WriteByte(s[i])
		} else {
			fact.WriteVisible(&b, r, s[i:i+n])
		}
		i += n
	}
	return b.String()
}

// ASCII writes JSON's characters that a terminal would act on as JSON's own
// escapes, which mean the same.
func ASCII(json []byte) []byte {
	if strings.IndexFunc(string(json), needsEscape) < 0 {
		return json
	}
	var b strings.Builder
	for _, r := range string(json) {
		if needsEscape(r) {
			fmt.Fprintf(&b, "\\u%04x", r)
		} else {
			b.WriteRune(r)
		}
	}
	return []byte(b.String())
}

func needsEscape(r rune) bool {
	return r >= 0x7f && r <= 0xffff && !fact.IsVisible(r) && r != utf8.RuneError
}

// Contents returns a writer for bytes that are shown as they are, such as a
// file's or a log's: on a terminal what does not show as itself is escaped, and
// elsewhere nothing is. Close writes what is left.
func (w *Writer) Contents() io.WriteCloser {
	if !w.Terminal {
		return exact{w.Exact()}
	}
	return &contents{w: w}
}

type exact struct{ io.Writer }

func (exact) Close() error { return nil }

// contents holds back a character of which a part has not come yet.
type contents struct {
	w    *Writer
	part []byte
}

func (c *contents) Write(p []byte) (int, error) {
	all := append(c.part, p...)
	end := len(all)
	for back := 1; back < utf8.UTFMax && back <= len(all); back++ {
		if b := all[len(all)-back]; utf8.RuneStart(b) {
			if !utf8.FullRune(all[len(all)-back:]) {
				end = len(all) - back
			}
			break
		}
	}
	_, err := c.w.Write(all[:end])
	c.part = append([]byte(nil), all[end:]...)
	return len(p), err
}

func (c *contents) Close() error {
	_, err := c.w.Write(c.part)
	c.part = nil
	return err
}
