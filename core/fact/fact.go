// Package fact is the vocabulary that all other packages share. It imports none
// of them.
package fact

import "ellwand.example/core/fact/version"

// Independent is the architecture of packages that run on every one. It does
// not appear in identities and file names.
const Independent = "independent"

// Identity names one package: NAME@VERSION-RELEASE.ARCH, or NAME@VERSION-RELEASE
// if it is independent of the architecture.
func Identity(name string, full version.Full, arch string) string {
	id := name + "@" + full.String()
	if arch == Independent {
		return id
	}
	return id + "." + arch
}
