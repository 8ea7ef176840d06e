package workspace

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/recipe/document"
)

// checkBuild looks at the limits of the table [build].
func (w *Workspace) checkBuild(doc *document.Document) {
	b := w.Settings.Build
	for name, text := range map[string]string{"memory": b.Memory, "disk": b.Disk, "log": b.Log, "layers": b.Layers} {
		if _, err := fact.ParseBytes(text); text != "" && err != nil {
			doc.Add(doc.At("build", name), err.Error(), fmt.Sprintf(`a number and a unit: %s = "8 GiB"`, name))
		}
	}
	if d, err := time.ParseDuration(b.Time); b.Time != "" && (err != nil || d <= 0) {
		doc.Add(doc.At("build", "time"), fmt.Sprintf("%q is not a duration", b.Time), `hours, minutes or seconds: time = "2h"`)
	}
	if b.Compression != "" && !slices.Contains(fact.Compressions, b.Compression) {
		doc.Add(doc.At("build", "compression"), fmt.Sprintf("unknown compression %q", b.Compression), "it is one of "+strings.Join(fact.Compressions, ", "))
	}
	if b.Processes < 0 {
		doc.Add(doc.At("build", "processes"), "the number of processes is negative", "leave it out for no limit")
	}
}

// Limits are what the steps of one build may use.
func (w *Workspace) Limits() sandbox.Limits {
	b := w.Settings.Build
	l := sandbox.Limits{Processes: int64(b.Processes)}
	// Open has checked them.
	l.Memory, _ = fact.ParseBytes(b.Memory)
	l.Disk, _ = fact.ParseBytes(b.Disk)
	l.Time, _ = time.ParseDuration(b.Time)
	return l
}

// LogSize is how long the log of a step may be, in bytes.
func (w *Workspace) LogSize() int64 {
	if n, err := fact.ParseBytes(w.Settings.Build.Log); err == nil && n > 0 {
		return n
	}
	return 64 << 20
}

// LayerSpace is what the layers of all recipes may take on disk, in bytes.
func (w *Workspace) LayerSpace() int64 {
	if n, err := fact.ParseBytes(w.Settings.Build.Layers); err == nil && n > 0 {
		return n
	}
	return 20 << 30
}
