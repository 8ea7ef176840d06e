package build

import (
	"io"
	"slices"

	"ellwand.example/core/pattern"
)

// failedTest matches the line of a log that names a test that failed, as the usual runners
// of tests write it.
var failedTest = []pattern.Pattern{
	pattern.New(`^(?:FAIL|ERROR): ([\w./+-]+)(?: \(exit status: \d+\))?$`),                                                                      // of Autotools
	pattern.New(`^\s+\d+ - (\S+) \((?:Failed|Timeout|Not Run|SEGFAULT|Exception|Subprocess \w+|ILLEGAL|BAD_COMMAND|OTHER_FAULT|NUMERICAL).*\)`), // of CMake
	pattern.New(`^\s*\d+/\d+ (?:.* / )?(\S+)\s+(?:FAIL|TIMEOUT|ERROR)\b`),                                                                       // of Meson
	pattern.New(`^(\S+\.t)\s+\(Wstat: `),                                                                                                        // of Perl
	pattern.New(`^\s*--- FAIL: (\S+)`),                                                                                                          // of Go
	pattern.New(`^FAILED (\S+?)(?: - .*)?$`),                                                                                                    // of Python
}

// maxFailedTests bounds how many are named.
const maxFailedTests = 100

// FailedTests lists the tests that failed by a step's log, each once, in its order.
func FailedTests(log io.ReadSeeker) ([]string, error) {
	var out []string
	err := eachLine(log, func(_ int, line string) {
		for _, p := range failedTest {
			if m := p.FindStringSubmatch(line); m != nil && len(out) < maxFailedTests && !slices.Contains(out, m[1]) {
				out = append(out, m[1])
			}
		}
	})
	return out, err
}
