package lint

import (
	"regexp"
	"sync"
)

// pattern is a regular expression that is compiled when it is first used: of
// the many here, most commands use none.
type pattern struct {
	compiled func() *regexp.Regexp
}

// expression makes a pattern, in the syntax of package regexp.
func expression(s string) pattern {
	return pattern{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(s) })}
}

func (p pattern) MatchString(s string) bool            { return p.compiled().MatchString(s) }
func (p pattern) Match(b []byte) bool                  { return p.compiled().Match(b) }
func (p pattern) FindString(s string) string           { return p.compiled().FindString(s) }
func (p pattern) FindStringIndex(s string) []int       { return p.compiled().FindStringIndex(s) }
func (p pattern) FindIndex(b []byte) []int             { return p.compiled().FindIndex(b) }
func (p pattern) FindStringSubmatch(s string) []string { return p.compiled().FindStringSubmatch(s) }
func (p pattern) ReplaceAllString(s, with string) string {
	return p.compiled().ReplaceAllString(s, with)
}
func (p pattern) ReplaceAllStringFunc(s string, with func(string) string) string {
	return p.compiled().ReplaceAllStringFunc(s, with)
}
func (p pattern) FindAllStringSubmatch(s string, n int) [][]string {
	return p.compiled().FindAllStringSubmatch(s, n)
}
