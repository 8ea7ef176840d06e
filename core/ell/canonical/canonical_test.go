package canonical

import (
	"math"
	"testing"
)

func TestMarshal(t *testing.T) {
	type tide struct {
		Place  string  `json:"place"`
		Height float64 `json:"height"`
		Empty  string  `json:"empty,omitempty"`
	}
	for _, c := range []struct {
		value any
		want  string
	}{
		{tide{"Saltmarsh", 4.50, ""}, `{"height":4.5,"place":"Saltmarsh"}`},
		{map[string]any{"b": 1, "a": nil, "\u20ac": true, "\r": false}, `{"\r":false,"a":null,"b":1,"€":true}`},
		{"a < b & c > d, é \u2028 \x01 \"\\", "\"a < b & c > d, é \u2028 \\u0001 \\\"\\\\\""},
		{[]float64{1e21, 1e-7, 100, math.Copysign(0, -1), 333333333.33333329}, `[1e+21,1e-7,100,0,333333333.3333333]`},
		{[]string{}, `[]`},
	} {
		got, err := Marshal(c.value)
		if err != nil || string(got) != c.want {
			t.Errorf("%v: %s, %v; not %s", c.value, got, err, c.want)
		}
	}
	if got, err := Marshal(math.NaN()); err == nil {
		t.Errorf("no number is written as %s", got)
	}
}
