package household

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"cozyshelf/internal/problem"

	"github.com/pelletier/go-toml/v2"
)

// Faults is every fault found in one household file, in the order of the text.
type Faults []*problem.Problem

// Error gives the first fault and how many more there are.
func (f Faults) Error() string {
	if len(f) == 1 {
		return f[0].Error()
	}
	return fmt.Sprintf("%s (and %d more)", f[0].Error(), len(f)-1)
}

// Unwrap gives the faults one by one.
func (f Faults) Unwrap() []error {
	out := make([]error, len(f))
	for i, p := range f {
		out[i] = p
	}
	return out
}

// Decode reads a household file. name is used in messages only. The error is
// of type Faults and lists everything that is wrong.
func Decode(name string, text []byte) (*Household, error) {
	var h Household
	dec := toml.NewDecoder(strings.NewReader(string(text)))
	dec.DisallowUnknownFields()
	err := dec.Decode(&h)
	at := locate(text)
	var strict *toml.StrictMissingError
	var wrong *toml.DecodeError
	switch {
	case err == nil:
	case errors.As(err, &strict):
		var faults Faults
		for _, e := range strict.Errors {
			row, col := e.Position()
			faults = append(faults, unknownKey(fmt.Sprintf("%s:%d:%d", name, row, col), e.Key()))
		}
		return nil, faults
	case errors.As(err, &wrong):
		row, col := wrong.Position()
		return nil, Faults{wrongType(fmt.Sprintf("%s:%d:%d", name, row, col), wrong)}
	default:
		return nil, Faults{{What: "the household file cannot be read", Where: name, Why: err.Error(),
			Fix: "mend the line and try again", Exit: problem.ExitUsage, Err: err}}
	}
	h.defaults(at.has)
	var faults Faults
	for _, c := range h.judge(at.has) {
		where := name
		if row, col, ok := at.position(c.key); ok {
			where = fmt.Sprintf("%s:%d:%d", name, row, col)
		}
		faults = append(faults, &problem.Problem{What: "the household file holds a value that cannot be: " + c.key,
			Where: where, Why: c.why, Fix: c.fix, Exit: problem.ExitUsage})
	}
	if len(faults) > 0 {
		return nil, faults
	}
	return &h, nil
}

func unknownKey(where string, key toml.Key) *problem.Problem {
	last := key[len(key)-1]
	p := &problem.Problem{
		What:  fmt.Sprintf("the household file has a key that is not known: %s", strings.Join(key, ".")),
		Where: where, Exit: problem.ExitUsage,
		Why: "there is no such key here, and a misspelt one must not be passed over",
		Fix: "remove it",
	}
	known := keysOf(key[:len(key)-1])
	if near := Nearest(last, known); near != "" {
		p.Fix = fmt.Sprintf("did you mean %q?", near)
	} else if len(known) > 0 {
		p.Fix = "the keys known here are: " + strings.Join(known, ", ")
	}
	return p
}

func wrongType(where string, e *toml.DecodeError) *problem.Problem {
	why := strings.TrimPrefix(e.Error(), "toml: ")
	if _, rest, ok := strings.Cut(why, "cannot decode TOML "); ok {
		found, _, _ := strings.Cut(rest, " ") // what follows speaks of Go
		why = "a TOML " + found + " stands there"
	}
	p := &problem.Problem{What: "the household file cannot be read", Where: where, Why: why,
		Fix: "mend this place and try again", Exit: problem.ExitUsage, Err: e}
	if k := strings.Join(e.Key(), "."); k != "" {
		p.What = "the household file has a value of the wrong kind: " + k
		if want := kindOf(e.Key()); want != "" {
			p.Fix = "write " + want
		}
	}
	return p
}

// tableOf finds the struct type that the path of keys leads to.
func tableOf(path []string) reflect.Type {
	t := reflect.TypeFor[Household]()
	for _, k := range path {
		f, ok := fieldOf(t, k)
		if !ok {
			return nil
		}
		t = f.Type
		if t.Kind() == reflect.Slice {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct {
			return nil
		}
	}
	return t
}

func fieldOf(t reflect.Type, key string) (reflect.StructField, bool) {
	if t == nil {
		return reflect.StructField{}, false
	}
	for f := range t.Fields() {
		if f.Tag.Get("toml") == key {
			return f, true
		}
	}
	return reflect.StructField{}, false
}

func keysOf(path []string) []string {
	t := tableOf(path)
	if t == nil {
		return nil
	}
	var out []string
	for f := range t.Fields() {
		out = append(out, f.Tag.Get("toml"))
	}
	return out
}

// kindOf says in words what a key wants.
func kindOf(key []string) string {
	if len(key) == 0 {
		return ""
	}
	f, ok := fieldOf(tableOf(key[:len(key)-1]), key[len(key)-1])
	if !ok {
		return ""
	}
	switch {
	case f.Type == reflect.TypeFor[Size]():
		return "a size in quotes, such as \"512 MiB\""
	case f.Type.Kind() == reflect.String:
		return "a text in quotes"
	case f.Type.Kind() == reflect.Int:
		return "a whole number, without quotes"
	case f.Type == reflect.TypeFor[[]string]():
		return "a list of texts, such as [\"/srv/media/films\"]"
	case f.Type.Kind() == reflect.Map:
		return "names with their addresses, such as { \"nas.home.arpa\" = \"192.0.2.10\" }"
	case f.Type.Kind() == reflect.Struct:
		return "a section, such as [" + key[len(key)-1] + "]"
	case f.Type.Kind() == reflect.Slice:
		return "a section with double brackets, such as [[" + key[len(key)-1] + "]]"
	}
	return ""
}

// Nearest gives the known word most like word, if any is near enough.
func Nearest(word string, known []string) string {
	best, at := "", 1+len(word)/2
	for _, k := range known {
		if d := distance(word, k); d < at {
			best, at = k, d
		}
	}
	return best
}

// distance is the Levenshtein distance in bytes.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		prev := slices.Clone(row)
		row[0] = i + 1
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			row[j+1] = min(prev[j]+cost, prev[j+1]+1, row[j]+1)
		}
	}
	return row[len(b)]
}
