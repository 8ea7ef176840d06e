package draft

import "testing"

func TestTestsBut(t *testing.T) {
	for method, want := range map[string]string{
		"cmake":     `ctest --test-dir ell-build --output-on-failure --parallel "$ELL_JOBS" --exclude-regex '^(ebb\.t|dir/flow)$'`,
		"autotools": `make check XFAIL_TESTS='ebb.t dir/flow flow'`,
		"perl":      `make test TEST_FILES="$(ls t/*.t | grep -vxF -e ebb.t -e dir/flow)"`,
		"make":      "",
	} {
		trials := &Trials{Facts: &Facts{Method: method}}
		if got := trials.testsBut([]string{"ebb.t", "dir/flow"}); got != want {
			t.Errorf("%s: %s, want %s", method, got, want)
		}
		if got := trials.testsBut([]string{"a'b"}) + trials.testsBut(nil); got != "" {
			t.Errorf("%s: %s", method, got)
		}
	}
}
