// Package pattern has regular expressions that are compiled when they are first
// used: a program that compiles hundreds of them at its start takes several
// milliseconds to do nothing.
package pattern

import (
	"regexp"
	"sync"
)

// Pattern is a regular expression, in the syntax of package regexp. Its methods are
// those of regexp.Regexp.
type Pattern struct {
	compiled func() *regexp.Regexp
}

// New returns a pattern. One with an error in it panics when it is first used.
func New(expression string) Pattern {
	return Pattern{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })}
}

func (p Pattern) Match(b []byte) bool                  { return p.compiled().Match(b) }
func (p Pattern) MatchString(s string) bool            { return p.compiled().MatchString(s) }
func (p Pattern) FindString(s string) string           { return p.compiled().FindString(s) }
func (p Pattern) FindStringIndex(s string) []int       { return p.compiled().FindStringIndex(s) }
func (p Pattern) FindIndex(b []byte) []int             { return p.compiled().FindIndex(b) }
func (p Pattern) FindSubmatch(b []byte) [][]byte       { return p.compiled().FindSubmatch(b) }
func (p Pattern) FindStringSubmatch(s string) []string { return p.compiled().FindStringSubmatch(s) }

func (p Pattern) FindStringSubmatchIndex(s string) []int {
	return p.compiled().FindStringSubmatchIndex(s)
}

func (p Pattern) FindSubmatchIndex(b []byte) []int { return p.compiled().FindSubmatchIndex(b) }

func (p Pattern) FindAllString(s string, n int) []string { return p.compiled().FindAllString(s, n) }

func (p Pattern) FindAllStringIndex(s string, n int) [][]int {
	return p.compiled().FindAllStringIndex(s, n)
}

func (p Pattern) FindAllStringSubmatch(s string, n int) [][]string {
	return p.compiled().FindAllStringSubmatch(s, n)
}

func (p Pattern) FindAllStringSubmatchIndex(s string, n int) [][]int {
	return p.compiled().FindAllStringSubmatchIndex(s, n)
}

func (p Pattern) ReplaceAll(b, with []byte) []byte { return p.compiled().ReplaceAll(b, with) }

func (p Pattern) ReplaceAllString(s, with string) string {
	return p.compiled().ReplaceAllString(s, with)
}

func (p Pattern) ReplaceAllStringFunc(s string, with func(string) string) string {
	return p.compiled().ReplaceAllStringFunc(s, with)
}
