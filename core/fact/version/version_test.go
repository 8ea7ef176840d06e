package version

import (
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"testing"
)

// inOrder is sorted; each version sorts before all that follow.
var inOrder = []string{
	"0.9", "1.0~~", "1.0~", "1.0~x", "1.0.dev9", "1.0a1", "1.0~alpha2", "1.0beta", "1.0_BETA2", "1.0b3", "1.0pre1", "1.0preview2", "1.0~rc1", "1.0rc1.1", "1.0", "1.0a", "1.0b", "1.0devel", "1.0.1", "1.0.2a", "1.2", "1.10",
	"1.10+git20310402", "1.10.0", "2", "9.99999999999999999999998", "9.99999999999999999999999", "2031.04.02", "2031.10.01", "20310402",
}

func TestCompare(t *testing.T) {
	for i, a := range inOrder {
		for j, b := range inOrder {
			want := 0
			if i < j {
				want = -1
			} else if i > j {
				want = 1
			}
			if got := Compare(a, b); got != want {
				t.Errorf("Compare(%q, %q) = %d, want %d", a, b, got, want)
			}
		}
	}
	for _, same := range [][2]string{{"1.0", "1.00"}, {"1.0", "1_0"}, {"1.0", "1.0."}, {"007", "7"}, {"1.0~rc1", "1.0rc1"}, {"1.0Alpha2", "1.0a2"}, {"1.0pre3", "1.0preview3"}} {
		if Compare(same[0], same[1]) != 0 {
			t.Errorf("%q and %q differ in rank", same[0], same[1])
		}
	}
}

func TestParseFull(t *testing.T) {
	for s, ok := range map[string]bool{"1.2-3": true, "1.2": true, "1.2-0": false, "1.2-x": false, "-1": false, "1:2-3": true, "x:2": false, "-1:2": false, "1:": false, "1-2-3": false, "": false} {
		f, err := ParseFull(s)
		if (err == nil) != ok || ok && f.String() != s {
			t.Errorf("ParseFull(%q) = %v, %v", s, f, err)
		}
	}
	if (Full{0, "1.2", 0}).Compare(Full{0, "1.2", 7}) != 0 || (Full{0, "1.2", 2}).Compare(Full{0, "1.2", 10}) != -1 || (Full{1, "1.2", 1}).Compare(Full{0, "2031", 9}) != 1 {
		t.Error("releases compare wrongly")
	}
}

func FuzzCompare(f *testing.F) {
	f.Add("1.0~rc1", "1.0", "1.0a")
	f.Add("1.0rc1", "1.0~", "1.0b2")
	f.Fuzz(func(t *testing.T, a, b, c string) {
		if Compare(a, b) != -Compare(b, a) || Compare(a, a) != 0 {
			t.Errorf("%q, %q: the order is not symmetric", a, b)
		}
		s := []string{a, b, c}
		slices.SortFunc(s, Compare)
		if Compare(s[0], s[2]) > 0 {
			t.Errorf("%q: the order is not transitive", s)
		}
	})
}

// The table of docs/versions.md is true, reasons included, and so are its
// text on bounds.
func TestHardCases(t *testing.T) {
	text, err := os.ReadFile("../../../docs/versions.md")
	if err != nil {
		t.Fatal(err)
	}
	rows := regexp.MustCompile("(?m)^\\| `([^`]+)` \\| (<|=) \\| `([^`]+)` \\| (.+) \\|$").FindAllStringSubmatch(string(text), -1)
	if len(rows) < 20 {
		t.Fatalf("%d rows were found", len(rows))
	}
	for _, row := range rows {
		a, errA := ParseFull(row[1])
		b, errB := ParseFull(row[3])
		want := map[string]int{"<": -1, "=": 0}[row[2]]
		if errA != nil || errB != nil || a.Compare(b) != want || b.Compare(a) != -want || Why(a, b) != row[4] {
			t.Errorf("%s %s %s since %s; got %d, %s", row[1], row[2], row[3], row[4], a.Compare(b), Why(a, b))
		}
	}
	if Compare("2~rc1", "2") >= 0 || Compare("2~rc1", "2~") < 0 || Compare("1.9", "2~") >= 0 || Compare("2rc1", "2") >= 0 || Compare("2rc1", "2~") < 0 {
		t.Error("the bound < 2~ does not do what the page says")
	}
}

// Sorting is stable for versions of one rank, and does not depend on how they
// stood before.
func TestSorting(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		shuffled := slices.Clone(inOrder)
		r.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
		slices.SortStableFunc(shuffled, Compare)
		if !slices.Equal(shuffled, inOrder) {
			t.Fatalf("%v", shuffled)
		}
	}
	same := []string{"1_0", "1.0", "1.00"}
	slices.SortStableFunc(same, Compare)
	if same[0] != "1_0" || same[2] != "1.00" {
		t.Errorf("%v", same)
	}
}
