package layout

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ellwand.example/core/staging"
)

// Whatever the layouts, counts add up: each staged path is claimed by one
// package, discarded, or reported; and the lines that are proposed claim all
// that were reported.
func TestCountsAddUp(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	names := []string{"a", "b", "tide", "x.so", "y.la", "{z}", "w w", "s*r", "q?", "[1]", `b\\s`}
	dirs := []string{"/usr/bin/", "/usr/share/tide/", "/usr/share/tide/deep/", "/usr/lib/", "/etc/"}
	patterns := []string{"/usr/bin/*", "/usr/bin/a", "/usr/share/**", "/usr/share/tide/deep/**", "/usr/lib/*.so", "/usr/lib/?", "/etc/*", "/**/tide", "/usr/share/tide/*"}
	for round := range 400 {
		seen := map[string]bool{}
		var staged []staging.Path
		for range r.IntN(12) + 1 {
			p := dirs[r.IntN(len(dirs))] + names[r.IntN(len(names))]
			if !seen[p] {
				seen[p] = true
				staged = append(staged, staging.Path{Path: p, Type: staging.File, Mode: 0o644, Size: 1})
			}
		}
		used := map[string]bool{}
		table := func(name string) string {
			var b strings.Builder
			fmt.Fprintf(&b, "[package.%s.layout]\n", name)
			for range r.IntN(3) {
				if p := patterns[r.IntN(len(patterns))]; !used[p] {
					used[p] = true
					fmt.Fprintf(&b, "%q = {}\n", p)
				}
			}
			return b.String()
		}
		text := table("tide") + table("tide-dev")
		claims, err := Resolve(parse(t, text), staged)
		var m *Mismatch
		if errors.As(err, &m) {
			if len(m.Tied) > 0 {
				continue
			}
			// Take the lines that match nothing out, and paste those proposed in.
			for _, l := range m.Unmatched {
				text = strings.Replace(text, fmt.Sprintf("%q = {}\n", l.Pattern), "", 1)
			}
			discard := ""
			for table := range strings.SplitSeq(m.Lines(), "\n\n") {
				head, lines, _ := strings.Cut(table, "\n")
				if strings.HasPrefix(head, "discard") {
					discard = head + "\n"
				} else {
					text = strings.Replace(text, head+"\n", head+"\n"+lines+"\n", 1)
				}
			}
			claims, err = Resolve(parse(t, discard+text), staged)
			if errors.As(err, &m) && len(m.Unclaimed) == 0 {
				continue // a proposed line has the better right than one that was there
			}
		}
		if err != nil {
			t.Fatalf("round %d: after pasting: %v\n%s", round, err, text)
		}
		count := 0
		for _, c := range claims {
			count += len(c)
		}
		discarded := 0
		for _, p := range staged {
			if strings.HasSuffix(p.Path, ".la") {
				discarded++
			}
		}
		if count > len(staged) || count < len(staged)-discarded {
			t.Fatalf("round %d: %d staged, %d claimed, at most %d discarded\n%s", round, len(staged), count, discarded, text)
		}
	}
}
