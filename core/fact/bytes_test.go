package fact

import "testing"

func TestParseBytes(t *testing.T) {
	for text, want := range map[string]int64{"4096": 4096, "500M": 500 << 20, "8 GiB": 8 << 30, "1.5 KiB": 1536, "2TB": 2 << 40, " 7 B ": 7, "0": 0} {
		if got, err := ParseBytes(text); err != nil || got != want {
			t.Errorf("%q is %d, %v, want %d", text, got, err, want)
		}
	}
	for _, text := range []string{"", "GiB", "-1", "1 PiB", "1..2", "99999999 TiB", "1e9", "0x10"} {
		if got, err := ParseBytes(text); err == nil {
			t.Errorf("%q is %d", text, got)
		}
	}
}
