package cli

import (
	"slices"
	"strings"
	"testing"

	"github.com/google/jsonschema-go/jsonschema"
	"github.com/spf13/cobra"
)

// TestEveryDocumentHasASchema holds the table of documents against the command tree, and the keys
// of times against their form.
func TestEveryDocumentHasASchema(t *testing.T) {
	_, root := program(t)
	all := documents()
	have := map[string]bool{}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, s := range c.Commands() {
			walk(s)
		}
		name := strings.TrimPrefix(c.CommandPath(), "cozyshelf ")
		if c.Flags().Lookup("json") != nil && c.Runnable() && !c.Hidden {
			have[name] = true
			if all[name] == nil {
				t.Errorf("%q writes documents, and has no schema", name)
			}
		}
	}
	walk(root)
	for name, types := range all {
		if !have[name] {
			t.Errorf("%q has a schema, and no --json", name)
		}
		s, err := schemaOf(name, types)
		if err != nil {
			t.Errorf("%q: %v", name, err)
			continue
		}
		if _, err := s.Resolve(nil); err != nil {
			t.Errorf("%q: %v", name, err)
		}
		if name == "logs" { // these are what the server wrote, in the usual form of a log
			continue
		}
		times(s, func(key string, isTime bool) {
			if isTime != strings.HasSuffix(key, "_at") && key != "resume_at" {
				t.Errorf("%q: the key %q, a time: %v", name, key, isTime)
			}
		})
	}
}

// times calls for each key of a schema, and says whether it is that of a time.
func times(s *jsonschema.Schema, do func(key string, isTime bool)) {
	if s == nil {
		return
	}
	for key, of := range s.Properties {
		do(key, of.Format == "date-time")
		times(of, do)
	}
	for _, of := range slices.Concat(s.AnyOf, []*jsonschema.Schema{s.Items, s.AdditionalProperties}) {
		times(of, do)
	}
}
