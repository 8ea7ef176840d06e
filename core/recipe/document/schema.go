package document

import (
	"encoding/json"
	"reflect"
	"strings"

	"github.com/invopop/jsonschema"

	"ellwand.example/core/fact/need"
)

// SchemaText is what a schema says of keys, besides their types. Paths have dots between the
// keys of tables, and neither numbers nor names of a file's own.
type SchemaText struct {
	Title        string
	Required     []string
	Descriptions map[string]string
	Words        map[string][]string // that a key allows
}

// Schema returns a JSON Schema (draft 2020-12) of the documents that are decoded into a
// struct.
func Schema(of any, text SchemaText) ([]byte, error) {
	r := &jsonschema.Reflector{
		FieldNameTag: "toml", DoNotReference: true, ExpandedStruct: true, RequiredFromJSONSchemaTags: true, Anonymous: true,
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			switch t {
			case reflect.TypeFor[need.Need](), reflect.TypeFor[need.Provide]():
				return &jsonschema.Schema{Type: "string"}
			case reflect.TypeFor[LocalDate]():
				return &jsonschema.Schema{Type: "string", Format: "date"}
			case reflect.TypeFor[Scalar]():
				return &jsonschema.Schema{OneOf: []*jsonschema.Schema{{Type: "boolean"}, {Type: "string"}}}
			}
			return nil
		},
	}
	s := r.Reflect(of)
	s.Title, s.Required = text.Title, append(s.Required, text.Required...)
	each(s, "", func(at string, s *jsonschema.Schema) {
		s.Description = text.Descriptions[at]
		in := s
		if s.Items != nil {
			in = s.Items
		}
		for _, word := range text.Words[at] {
			in.Enum = append(in.Enum, word)
		}
	})
	return json.MarshalIndent(s, "", "  ")
}

// each calls f for every key of a schema, with its path.
func each(s *jsonschema.Schema, path string, f func(path string, s *jsonschema.Schema)) {
	if s == nil {
		return
	}
	if s.Properties != nil {
		for p := s.Properties.Oldest(); p != nil; p = p.Next() {
			at := strings.TrimPrefix(path+"."+p.Key, ".")
			f(at, p.Value)
			each(p.Value, at, f)
		}
	}
	each(s.Items, path, f)
	each(s.AdditionalProperties, path, f)
}
