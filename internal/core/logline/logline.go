// Package logline reads lines of the server's log: a time in front, as engines put
// it, and then key=value pairs or a JSON
// object, as log/slog writes them. What is not of that
// form (the last words of a program that crashed) is a message of its own.
package logline

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Line is one line.
type Line struct {
	At      time.Time // zero where there is none
	Level   Level
	Message string
	Pairs   []Pair // the others, in their order
	Plain   bool   // it is not of the form that slog writes
}

// Level is how grave a line is, numbered as log/slog does.
type Level int

// The levels.
const (
	Debug Level = -4
	Info  Level = 0
	Warn  Level = 4
	Error Level = 8
)

var names = map[string]Level{"DEBUG": Debug, "INFO": Info, "WARN": Warn, "ERROR": Error}

// ParseLevel reads a level as slog writes it, such as "WARN" or "INFO+2"; letters
// may be small.
func ParseLevel(s string) (Level, error) {
	name, offset := strings.ToUpper(s), 0
	if i := strings.IndexAny(s, "+-"); i >= 0 {
		n, err := strconv.Atoi(s[i:])
		if err != nil {
			return 0, fmt.Errorf("%q is no level", s)
		}
		name, offset = name[:i], n
	}
	l, ok := names[name]
	if !ok {
		return 0, fmt.Errorf("%q is no level", s)
	}
	return l + Level(offset), nil
}

// String writes the level as slog does.
func (l Level) String() string {
	for _, n := range []string{"ERROR", "WARN", "INFO", "DEBUG"} {
		if l == names[n] {
			return n
		}
		if l > names[n] {
			return fmt.Sprintf("%s+%d", n, l-names[n])
		}
	}
	return fmt.Sprintf("DEBUG%d", l-Debug)
}

// Pair is one key with its value.
type Pair struct{ Key, Value string }

// Parse reads a line. It never fails: what cannot be read is the message.
func Parse(text string) Line {
	var l Line
	rest := strings.TrimRight(text, "\r\n")
	if first, after, ok := strings.Cut(rest, " "); ok {
		if at, err := time.Parse(time.RFC3339Nano, first); err == nil {
			l.At, rest = at, after
		}
	}
	whole := rest
	if strings.HasPrefix(rest, "{") {
		return fromJSON(l, whole)
	}
	for rest != "" {
		key, after, ok := strings.Cut(rest, "=")
		if !ok || key == "" || strings.ContainsAny(key, " \"") {
			return Line{At: l.At, Message: whole, Plain: true}
		}
		var value string
		if strings.HasPrefix(after, `"`) {
			quoted, err := strconv.QuotedPrefix(after)
			if err != nil {
				return Line{At: l.At, Message: whole, Plain: true}
			}
			value, _ = strconv.Unquote(quoted) // it is quoted, as was just seen
			rest = after[len(quoted):]
			if rest != "" && rest[0] != ' ' {
				return Line{At: l.At, Message: whole, Plain: true}
			}
			rest = strings.TrimPrefix(rest, " ")
		} else {
			value, rest, _ = strings.Cut(after, " ")
		}
		switch key {
		case "level":
			var err error
			if l.Level, err = ParseLevel(value); err != nil {
				return Line{At: l.At, Message: whole, Plain: true}
			}
		case "msg":
			l.Message = value
		default:
			l.Pairs = append(l.Pairs, Pair{key, value})
		}
	}
	return l
}

// fromJSON reads a line that slog wrote as JSON; its pairs come in the order of
// their keys.
func fromJSON(l Line, whole string) Line {
	plain := Line{At: l.At, Message: whole, Plain: true}
	var m map[string]any
	if json.Unmarshal([]byte(whole), &m) != nil {
		return plain
	}
	for _, k := range slices.Sorted(maps.Keys(m)) {
		text, isText := m[k].(string)
		if !isText {
			b, err := json.Marshal(m[k])
			if err != nil {
				return plain
			}
			text = string(b)
		}
		switch k {
		case "level":
			var err error
			if l.Level, err = ParseLevel(text); err != nil {
				return plain
			}
		case "msg":
			l.Message = text
		default:
			l.Pairs = append(l.Pairs, Pair{k, text})
		}
	}
	return l
}

// MarshalJSON writes the line with its pairs beside time, level and msg; a pair of
// one of these names is left out. Numbers are numbers, and yes and no are true and false, except
// where the key says that it is a word.
func (l Line) MarshalJSON() ([]byte, error) {
	m := map[string]any{}
	for _, p := range l.Pairs {
		m[p.Key] = value(p)
	}
	if !l.At.IsZero() {
		m["time"] = l.At.Format(time.RFC3339Nano)
	}
	if !l.Plain {
		m["level"] = l.Level.String()
	}
	m["msg"] = l.Message
	return json.Marshal(m)
}

// words are the keys whose values are words, though they may look like something else: a member
// may be called 1977, and so may a film.
var words = []string{"member", "title", "shelf", "household", "device", "version", "file", "folder", "path", "page",
	"address", "why", "from", "backup", "settings"}

// number is what JSON takes for a number.
var number = regexp.MustCompile(`^-?(0|[1-9][0-9]{0,17})(\.[0-9]{1,18})?(e[+-][0-9]{1,2})?$`)

func value(p Pair) any {
	switch {
	case slices.Contains(words, p.Key):
	case p.Value == "true", p.Value == "false":
		return p.Value == "true"
	case number.MatchString(p.Value):
		return json.Number(p.Value)
	}
	return p.Value
}

// Filter says which lines are wanted.
type Filter struct {
	Level Level  // and above; lines without one are always wanted
	Grep  string // a part of the line, letters large or small; empty for all
}

// Wants reports whether a line is wanted.
func (f Filter) Wants(text string, l Line) bool {
	if !l.Plain && l.Level < f.Level {
		return false
	}
	return f.Grep == "" || strings.Contains(strings.ToLower(text), strings.ToLower(f.Grep))
}
