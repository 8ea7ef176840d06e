package fact

// Account is a system account that a package needs.
type Account struct {
	Home    string `json:"home,omitempty"`
	Summary string `json:"summary,omitempty"`
}

// Change is a changelog entry: what is new in a version.
type Change struct {
	Version string   `json:"version"`
	Date    string   `json:"date"` // as in 2031-04-02
	By      string   `json:"by"`
	Text    []string `json:"text"`
}

// Compressions say how much time is spent on making packages small, from the
// least to the most.
var Compressions = []string{CompressionFast, CompressionNormal, CompressionSmall, CompressionSmallest}

// The compressions by name. CompressionNormal is the default.
const (
	CompressionFast     = "fast"
	CompressionNormal   = "normal"
	CompressionSmall    = "small"
	CompressionSmallest = "smallest"
)
