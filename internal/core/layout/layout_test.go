package layout

import (
	"path"
	"testing"
)

// TestEveryPlaceIsFoundOnce looks each place up by its own name, and holds that no two
// patterns claim the same.
func TestEveryPlaceIsFoundOnce(t *testing.T) {
	for where, list := range map[string][]Place{"state": State, "admin": Administrator} {
		for _, p := range list {
			if got, ok := Find(list, p.Name+"/below"); !ok || got.Name != p.Name {
				t.Errorf("%s: %s is found as %q", where, p.Name, got.Name)
			}
			if _, err := path.Match(p.Name, "x"); err != nil || p.What == "" || p.Owner == "" {
				t.Errorf("%s: %+v: %v", where, p, err)
			}
		}
	}
	for _, name := range []string{"", "store", "store.db.bak", "settings.json", "films", "known.key2"} {
		if p, ok := Find(State, name); ok {
			t.Errorf("%q is taken for %q", name, p.Name)
		}
	}
	if p, ok := Find(State, "settings-0123456789abcdef.json"); !ok || !p.Saved || p.Owner != Server {
		t.Errorf("settings: %+v", p)
	}
	// What root believes is never the server's.
	for _, p := range Administrator {
		if p.Owner != Admin {
			t.Errorf("%s belongs to %s", p.Name, p.Owner)
		}
	}
}
