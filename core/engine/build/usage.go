package build

import (
	"encoding/json"
	"os"
	"path/filepath"

	"ellwand.example/core/fact"
	"ellwand.example/core/files"
	"ellwand.example/core/recipe"
)

// usageRecord is what a traced build leaves for lint.
type usageRecord struct {
	Recipe string      `json:"recipe"` // SHA-256 of its text
	Report NeedsReport `json:"report"`
}

func (b *Builder) usageFile(name string) string {
	return b.Workspace.State("needs", name+".json")
}

// keepUsage writes down what a traced build has used.
func (j *job) keepUsage(report *NeedsReport) error {
	data, err := json.Marshal(usageRecord{fact.SHA256(j.recipe.Doc.Data), *report})
	if err != nil {
		return err
	}
	file := j.usageFile(j.recipe.Name)
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return files.Write(file, data)
}

// LastUsage returns what the last traced build of a recipe used; nil if there was
// none, or the recipe was changed since.
func (b *Builder) LastUsage(r *recipe.Recipe) *NeedsReport {
	data, err := os.ReadFile(b.usageFile(r.Name))
	var record usageRecord
	if err != nil || json.Unmarshal(data, &record) != nil {
		return nil
	}
	if record.Recipe != fact.SHA256(r.Doc.Data) {
		return nil
	}
	return &record.Report
}
