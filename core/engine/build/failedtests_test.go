package build

import (
	"slices"
	"strings"
	"testing"
)

func TestFailedTests(t *testing.T) {
	for _, c := range []struct {
		log  string
		want []string
	}{
		{"PASS: a.sh\nFAIL: dir/b.sh\nFAIL: dir/b.sh\nERROR: c\nFAIL: it said \"no\"\n", []string{"dir/b.sh", "c"}},
		{"The following tests FAILED:\n\t  1 - tide.ebb (Failed)\n\t 12 - flow (SEGFAULT)\n", []string{"tide.ebb", "flow"}},
		{" 3/20 tide / ebb FAIL            0.02s   exit status 1\n 4/20 flow   OK  0.1s\n", []string{"ebb"}},
		{"Test Summary Report\n-------------------\nt/ebb.t  (Wstat: 256 Tests: 3 Failed: 1)\n", []string{"t/ebb.t"}},
		{"--- FAIL: TestEbb (0.00s)\n    --- FAIL: TestEbb/low (0.00s)\n", []string{"TestEbb", "TestEbb/low"}},
		{"FAILED tests/test_ebb.py::test_low - assert 1 == 2\n", []string{"tests/test_ebb.py::test_low"}},
		{"all is well\n", nil},
	} {
		if got, err := FailedTests(strings.NewReader(c.log)); err != nil || !slices.Equal(got, c.want) {
			t.Errorf("%q: %q, %v", c.log, got, err)
		}
	}
}
