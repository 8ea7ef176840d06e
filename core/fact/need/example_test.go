package need_test

import (
	"fmt"
	"testing"

	"ellwand.example/core/fact/need"
)

func ExampleParse() {
	n, err := need.Parse("pkgconfig/zlib >= 1.2 | pkgconfig/zlib-ng")
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, a := range n.Alternatives {
		fmt.Println(a.Kind, a.Name, a.Constraints)
	}
	fmt.Println(n.MetBy(need.Provide{Kind: need.PkgConfig, Name: "zlib", Version: "1.3"}))
	fmt.Println(n.MetBy(need.Provide{Kind: need.PkgConfig, Name: "zlib", Version: "1.1"}))
	// Output:
	// pkgconfig zlib [{>= 1.2}]
	// pkgconfig zlib-ng []
	// true
	// false
}

func BenchmarkParse(b *testing.B) {
	for b.Loop() {
		if _, err := need.Parse("pkgconfig/zlib >= 1.2 | pkgconfig/zlib-ng"); err != nil {
			b.Fatal(err)
		}
	}
}
