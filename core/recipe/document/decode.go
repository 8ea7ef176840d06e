package document

import (
	"encoding"
	"errors"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"

	"ellwand.example/core/fact"
)

// LocalDate is a TOML local date in the form 2031-04-02 (RFC 3339 full-date).
type LocalDate string

// Scalar is a string or a truth value, as the file has it.
type Scalar struct {
	Text string
	Bool bool // it is true or false, and not a string
}

// Decode fills the struct that target points to from the document's root.
// Fields are named by their `toml` tag; a key that no field has and a value of
// the wrong type are recorded as problems. `shape` tags say in a message what
// a value should look like. Supported are strings, booleans, integers,
// LocalDate, Scalar, and slices, string-keyed maps, structs and pointers of these.
func (d *Document) Decode(target any) {
	d.decode(d.Root, reflect.ValueOf(target).Elem(), "", "")
	d.Sort()
}

// Keys lists the names that a struct's tags allow, in the order of its fields.
func Keys(t reflect.Type) []string {
	var keys []string
	for i := range t.NumField() {
		if tag := t.Field(i).Tag.Get("toml"); tag != "" && tag != "-" {
			keys = append(keys, tag)
		}
	}
	return keys
}

func (d *Document) decode(n *Node, v reflect.Value, name, shape string) {
	t := v.Type()
	wrong := func(expected string) {
		if shape != "" {
			expected += ", " + shape
		}
		d.Add(n.Value, fmt.Sprintf("%s is %s where %s is expected", quote(name), n.Kind, expected), d.remedyFor(n, t))
	}
	switch {
	case t.Kind() == reflect.Pointer:
		v.Set(reflect.New(t.Elem()))
		d.decode(n, v.Elem(), name, shape)
	case reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]()):
		if n.Kind != String {
			wrong(String.String())
			return
		}
		err := v.Addr().Interface().(encoding.TextUnmarshaler).UnmarshalText([]byte(n.Text))
		var e *fact.SyntaxError
		switch {
		case errors.As(err, &e):
			d.Add(d.Inside(n, e.Offset, e.Length), e.Message, e.Remedy)
		case err != nil:
			d.Add(n.Value, err.Error(), "")
		}
	case t == reflect.TypeFor[LocalDate]():
		if n.Kind != Date {
			wrong("a date such as 2031-04-02, without quotes,")
			return
		}
		if _, err := time.Parse(time.DateOnly, n.Text); err != nil {
			d.Add(n.Value, n.Text+" is not a valid date", "dates are written year, month, day: 2031-04-02")
			return
		}
		v.SetString(n.Text)
	case t == reflect.TypeFor[Scalar]():
		if n.Kind != String && n.Kind != Bool {
			wrong("a string, or true or false")
			return
		}
		v.Set(reflect.ValueOf(Scalar{n.Text, n.Kind == Bool}))
	case t.Kind() == reflect.String:
		if n.Kind != String {
			wrong(String.String())
			return
		}
		v.SetString(n.Text)
	case t.Kind() == reflect.Bool:
		if n.Kind != Bool {
			wrong(Bool.String())
			return
		}
		v.SetBool(n.Text == "true")
	case t.Kind() == reflect.Int:
		if n.Kind != Integer {
			wrong(Integer.String())
			return
		}
		i, err := strconv.ParseInt(strings.ReplaceAll(n.Text, "_", ""), 0, strconv.IntSize)
		if err != nil {
			d.Add(n.Value, fmt.Sprintf("%s is not a usable number: %s", quote(name), n.Text), "")
			return
		}
		v.SetInt(i)
	case t.Kind() == reflect.Slice:
		if n.Kind != Array {
			wrong(Array.String())
			return
		}
		v.Set(reflect.MakeSlice(t, len(n.Items), len(n.Items)))
		for i, item := range n.Items {
			d.decode(item, v.Index(i), name, shape)
		}
	case t.Kind() == reflect.Map:
		if n.Kind != Table {
			wrong(Table.String())
			return
		}
		v.Set(reflect.MakeMapWithSize(t, len(n.Keys)))
		for _, key := range n.Keys {
			item := reflect.New(t.Elem()).Elem()
			d.decode(n.Get(key), item, key, shape)
			v.SetMapIndex(reflect.ValueOf(key), item)
		}
	case t.Kind() == reflect.Struct:
		if n.Kind != Table {
			wrong(Table.String())
			return
		}
		d.decodeStruct(n, v, name)
	default:
		panic("document: no way to decode into " + t.String())
	}
}

func (d *Document) decodeStruct(n *Node, v reflect.Value, name string) {
	t := v.Type()
	known := map[string]int{}
	for i := range t.NumField() {
		if tag := t.Field(i).Tag.Get("toml"); tag != "" && tag != "-" {
			known[tag] = i
		}
	}
	for _, key := range n.Keys {
		child := n.Get(key)
		i, ok := known[key]
		if !ok {
			d.unknown(child, key, name, t)
			continue
		}
		d.decode(child, v.Field(i), key, t.Field(i).Tag.Get("shape"))
	}
}

func (d *Document) unknown(n *Node, key, table string, t reflect.Type) {
	if d.Full() {
		d.Omit()
		return
	}
	where := ""
	if table != "" {
		where = " in " + quote(table)
	}
	keys := Keys(t)
	remedy := "known here: " + strings.Join(keys, ", ")
	if near := fact.Nearest(key, keys); near != "" {
		remedy = "did you mean " + quote(near) + "?"
	}
	d.Add(n.Key, fmt.Sprintf("unknown key %s%s", quote(key), where), remedy)
}

// remedyFor proposes how to write a value of the wrong type, where that can be
// told from the value.
func (d *Document) remedyFor(n *Node, t reflect.Type) string {
	raw := string(d.Data[n.Value.Offset : n.Value.Offset+n.Value.Length])
	if strings.ContainsAny(raw, "\n") || n.Kind == Table || n.Kind == Array {
		return ""
	}
	switch {
	case t == reflect.TypeFor[LocalDate]() && n.Kind == String:
		if _, err := time.Parse(time.DateOnly, n.Text); err != nil {
			return "write it like 2031-04-02"
		}
		return "write it without the quotes: " + n.Text
	case t.Kind() == reflect.String && n.Kind != String:
		return "write it in quotes: " + strconv.Quote(raw)
	case t.Kind() == reflect.Slice:
		return "write it in brackets: [" + raw + "]"
	case (t.Kind() == reflect.Int || t.Kind() == reflect.Bool) && n.Kind == String:
		return "write it without the quotes: " + n.Text
	}
	return ""
}
