package secret

import (
	"bytes"
	"compress/gzip"
	_ "embed"
	"io"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// commonList is a list of passwords that people often take, a line each, in lower case
// and sorted: of the 45,000 most frequent in the list "passwords" of zxcvbn (MIT licence)
// those with six characters or more. docs/dependencies.md says how it was made.
//
//go:embed common.txt.gz
var commonList []byte

var commonWords = sync.OnceValue(func() []string {
	z, err := gzip.NewReader(bytes.NewReader(commonList))
	if err != nil {
		panic(err) // it is part of the program
	}
	b, err := io.ReadAll(z)
	if err != nil {
		panic(err)
	}
	return strings.Fields(string(b))
})

func isCommon(s string) bool {
	_, found := slices.BinarySearch(commonWords(), s)
	return found
}

// common reports whether a password is one that is guessed early: a common one, a common
// one or the member's name with figures and signs around it, one over and over, or a row
// of the keyboard or the alphabet.
func common(password, member string) bool {
	s := strings.ToLower(password)
	letters := strings.TrimFunc(s, func(r rune) bool { return !unicode.IsLetter(r) })
	for _, s := range []string{s, letters, once(s), once(letters),
		once(strings.TrimFunc(once(s), func(r rune) bool { return !unicode.IsLetter(r) }))} {
		if isCommon(s) || s == strings.ToLower(member) && s != "" || utf8.RuneCountInString(s) < 4 || row(s) {
			return true
		}
	}
	return false
}

// once gives the shortest text that a text consists of, over and over.
func once(s string) string {
	for n := 1; n <= len(s)/2; n++ {
		if len(s)%n == 0 && strings.Repeat(s[:n], len(s)/n) == s {
			return s[:n]
		}
	}
	return s
}

// rows are what a finger or a child runs along.
var rows = []string{"abcdefghijklmnopqrstuvwxyz", "01234567890123456789", "qwertyuiop", "asdfghjkl", "zxcvbnm",
	"qwertzuiop", "yxcvbnm", "azertyuiop", "qsdfghjklm", "1qaz2wsx3edc4rfv5tgb6yhn7ujm"}

// row reports whether a text runs along one of them, to and fro.
func row(s string) bool {
	back := []byte(s)
	slices.Reverse(back)
	for _, r := range rows {
		if strings.Contains(r, s) || strings.Contains(r, string(back)) {
			return true
		}
	}
	return false
}
