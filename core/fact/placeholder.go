package fact

// Placeholders stand in a recipe for facts that its author has yet to fill in. A package
// that has one can be built and tried, and is not to be published.
const (
	PlaceholderSummary = "To be written: what it does, in one line"
	PlaceholderLicense = "LicenseRef-to-be-filled-in"
	PlaceholderVersion = "0~to.be.filled.in"
)
