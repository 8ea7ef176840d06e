package scan

import "strings"

// Keys is a file of [sections] with keys and values, as desktop entries
// (Desktop Entry Specification) and units (systemd.syntax(7)) are.
type Keys struct {
	Sections []string
	Lines    []KeyLine
	Stray    []int // lines, from 1, that are none of it
}

// KeyLine is a key with its value; a key may stand there several times.
type KeyLine struct {
	Section, Key, Value string
	Line                int // from 1
}

// ReadKeys reads one. A line that ends in a backslash goes on in the next.
func ReadKeys(text string) Keys {
	var k Keys
	section := ""
	lines := strings.Split(text, "\n")
	for i := 0; i < len(lines); i++ {
		number := i + 1
		line := strings.TrimSpace(lines[i])
		if strings.HasSuffix(line, `\`) {
			var whole strings.Builder
			for strings.HasSuffix(line, `\`) && i+1 < len(lines) {
				i++
				whole.WriteString(strings.TrimSuffix(line, `\`))
				whole.WriteByte(' ')
				line = strings.TrimSpace(lines[i])
			}
			whole.WriteString(line)
			line = whole.String()
		}
		switch {
		case line == "" || line[0] == '#' || line[0] == ';':
		case line[0] == '[' && strings.HasSuffix(line, "]"):
			section = line[1 : len(line)-1]
			k.Sections = append(k.Sections, section)
		default:
			key, value, ok := strings.Cut(line, "=")
			if !ok || section == "" {
				k.Stray = append(k.Stray, number)
				continue
			}
			k.Lines = append(k.Lines, KeyLine{section, strings.TrimSpace(key), strings.TrimSpace(value), number})
		}
	}
	return k
}

// Get returns the first value of a key.
func (k Keys) Get(section, key string) (value string, ok bool) {
	for _, l := range k.Lines {
		if l.Section == section && l.Key == key {
			return l.Value, true
		}
	}
	return "", false
}
