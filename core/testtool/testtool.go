// Package testtool has what tests of several packages share.
package testtool

import (
	"os"
	"os/exec"
	"testing"
)

// Find returns the path of the first of some programs that is on this machine.
// Where there is none, the test is skipped; on CI, which has them all, it
// fails, so that nothing is left out there without anyone noticing.
func Find(t testing.TB, programs ...string) string {
	t.Helper()
	for _, name := range programs {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	if os.Getenv("CI") != "" {
		t.Fatalf("there is none of %v here, and CI has to have it", programs)
	}
	t.Skipf("there is none of %v here", programs)
	return ""
}
