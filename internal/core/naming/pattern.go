package naming

import (
	"regexp"
	"sync"
)

// pattern is a regular expression that is compiled when it is first used: the program starts for
// many things that read no names. Its methods are those of regexp.Regexp.
type pattern struct {
	compiled func() *regexp.Regexp
}

func newPattern(text string) pattern {
	return pattern{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })}
}

func (p pattern) MatchString(s string) bool            { return p.compiled().MatchString(s) }
func (p pattern) FindString(s string) string           { return p.compiled().FindString(s) }
func (p pattern) FindStringIndex(s string) []int       { return p.compiled().FindStringIndex(s) }
func (p pattern) FindStringSubmatch(s string) []string { return p.compiled().FindStringSubmatch(s) }
func (p pattern) FindStringSubmatchIndex(s string) []int {
	return p.compiled().FindStringSubmatchIndex(s)
}
func (p pattern) FindAllString(s string, n int) []string { return p.compiled().FindAllString(s, n) }
func (p pattern) ReplaceAllString(src, repl string) string {
	return p.compiled().ReplaceAllString(src, repl)
}

func (p pattern) FindAllStringSubmatchIndex(s string, n int) [][]int {
	return p.compiled().FindAllStringSubmatchIndex(s, n)
}

func (p pattern) ReplaceAllStringFunc(src string, repl func(string) string) string {
	return p.compiled().ReplaceAllStringFunc(src, repl)
}
