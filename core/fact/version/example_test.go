package version_test

import (
	"fmt"
	"slices"

	"ellwand.example/core/fact/version"
)

func ExampleCompare() {
	versions := []string{"1.10", "1.2", "1.10rc1", "1.10~git3", "1.10.1", "1.10alpha"}
	slices.SortFunc(versions, version.Compare)
	fmt.Println(versions)
	// Output: [1.2 1.10~git3 1.10alpha 1.10rc1 1.10 1.10.1]
}

func ExampleParseFull() {
	f, err := version.ParseFull("1:2.4.1-3")
	fmt.Println(f.Epoch, f.Version, f.Release, err)
	// Output: 1 2.4.1 3 <nil>
}
