// Package canonical writes values as canonical JSON (RFC 8785, the JSON
// Canonicalization Scheme): one value has one form, whose digest names it.
package canonical

import (
	"bytes"
	"encoding/json"

	"github.com/gowebpki/jcs"
)

// Marshal returns the canonical form of a value, without a line end.
func Marshal(v any) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return nil, err
	}
	return jcs.Transform(b.Bytes())
}
