//go:build !amd64 && !arm64

package sandbox

const nativeArch = 0

var nativeRules []rule
