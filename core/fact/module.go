package fact

// Module is a module of a language that went into a build.
type Module struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	// URL is its package URL, such as "pkg:npm/left-pad@1.3.0" (package-url specification 1.0).
	URL     string `json:"url"`
	License string `json:"license,omitempty"` // as the module states it; empty if it does not
}

// ModuleLanguages are those whose modules can be fetched before a build.
var ModuleLanguages = []string{"cargo", "go", "maven", "npm", "perl", "python", "ruby", ModuleScript}

// ModuleScript is in the place of a language if the recipe says how modules are fetched.
const ModuleScript = "script"
