package fact

// SyntaxError is an error in a piece of text whose place in a file is not known
// here, such as one string of a document.
type SyntaxError struct {
	Offset, Length  int // bytes
	Message, Remedy string
}

func (e *SyntaxError) Error() string {
	if e.Remedy != "" {
		return e.Message + " (" + e.Remedy + ")"
	}
	return e.Message
}
