package fact

// goArchitectures are the names of architectures in Go, and in OCI images.
var goArchitectures = map[string]string{"x86_64": "amd64", "i686": "386", "aarch64": "arm64", "armv7l": "arm", "riscv64": "riscv64", "ppc64le": "ppc64le", "s390x": "s390x", "loongarch64": "loong64"}

// GoArchitecture is the name that Go has for an architecture that uname -m prints; empty for
// an unknown one.
func GoArchitecture(machine string) string { return goArchitectures[machine] }
