package version

import "testing"

func BenchmarkCompare(b *testing.B) {
	for b.Loop() {
		Compare("2.40.1+git20310402", "2.40.1+git20310403")
	}
}
