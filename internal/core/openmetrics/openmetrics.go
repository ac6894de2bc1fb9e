// Package openmetrics writes measurements as monitoring systems read them: as OpenMetrics 1.0, or in the text form
// of Prometheus from which that was made. Both are lines of text; the packages that also write others would make
// the program larger by a tenth.
package openmetrics

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Content types of the two forms.
const (
	TypeOpen = "application/openmetrics-text; version=1.0.0; charset=utf-8"
	TypeText = "text/plain; version=0.0.4; charset=utf-8"
)

// Kind is what a family measures.
type Kind string

// The kinds.
const (
	Gauge   Kind = "gauge"   // goes up and down
	Counter Kind = "counter" // goes up; its name ends in _total
)

// Label is a name with a value. Names are words of ours.
type Label struct{ Name, Value string }

// Sample is one value, told from others by its labels.
type Sample struct {
	Labels []Label
	Value  float64
}

// Family is all samples of one name.
type Family struct {
	Name    string
	Kind    Kind
	Help    string
	Samples []Sample
}

// Add adds a sample, with labels in pairs of name and value.
func (f *Family) Add(value float64, labels ...string) {
	s := Sample{Value: value}
	for i := 0; i+1 < len(labels); i += 2 {
		s.Labels = append(s.Labels, Label{labels[i], labels[i+1]})
	}
	f.Samples = append(f.Samples, s)
}

var (
	escapedValue = strings.NewReplacer("\\", `\\`, "\n", `\n`, `"`, `\"`)
	escapedHelp  = strings.NewReplacer("\\", `\\`, "\n", `\n`)
	openHelp     = escapedValue // OpenMetrics has quotes escaped in help, too
)

// Write writes families, sorted by name; those without a sample are left out.
func Write(list []Family, open bool) []byte {
	list = slices.Clone(list)
	slices.SortFunc(list, func(a, b Family) int { return strings.Compare(a.Name, b.Name) })
	var b bytes.Buffer
	for _, f := range list {
		if len(f.Samples) == 0 {
			continue
		}
		name, help := f.Name, escapedHelp
		if open {
			name, help = strings.TrimSuffix(name, "_total"), openHelp
		}
		fmt.Fprintf(&b, "# HELP %s %s\n# TYPE %s %s\n", name, help.Replace(f.Help), name, f.Kind)
		for _, s := range f.Samples {
			b.WriteString(f.Name)
			for i, l := range s.Labels {
				b.WriteString(map[bool]string{true: "{", false: ","}[i == 0])
				fmt.Fprintf(&b, `%s="%s"`, l.Name, escapedValue.Replace(strings.ToValidUTF8(l.Value, "\ufffd")))
			}
			if len(s.Labels) > 0 {
				b.WriteByte('}')
			}
			b.WriteString(" " + strconv.FormatFloat(s.Value, 'g', -1, 64) + "\n")
		}
	}
	if open {
		b.WriteString("# EOF\n")
	}
	return b.Bytes()
}

// Wants reports whether whoever sends an Accept header reads OpenMetrics.
func Wants(accept string) bool { return strings.Contains(accept, "application/openmetrics-text") }
