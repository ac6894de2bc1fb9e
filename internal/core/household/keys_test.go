package household

import (
	"encoding/json"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
)

// namesOf gives the keys that Decode knows, by the structure that it fills.
func namesOf(prefix string, of reflect.Type) (out []string) {
	for i := range of.NumField() {
		f := of.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
		switch of := f.Type; {
		case name == "" || name == "-":
		case of.Kind() == reflect.Struct:
			out = append(out, namesOf(prefix+name+".", of)...)
		case of.Kind() == reflect.Slice && of.Elem().Kind() == reflect.Struct:
			out = append(out, namesOf(prefix+name+".", of.Elem())...)
		default:
			out = append(out, prefix+name)
		}
	}
	return out
}

// TestEveryKeyIsKnownEverywhere compares the keys that are read with those that are
// described, and these with the table of the reference.
func TestEveryKeyIsKnownEverywhere(t *testing.T) {
	read := namesOf("", reflect.TypeFor[Household]())
	doc, err := os.ReadFile("../../../docs/reference.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range Keys {
		if !slices.Contains(read, k.Name) {
			t.Errorf("%s is described, and not read", k.Name)
		}
		if row := "| `" + k.Name + "` | " + k.Default + " | " + k.Takes + " |\n"; !strings.Contains(string(doc), row) {
			t.Errorf("the reference lacks the row\n%s", row)
		}
	}
	for _, name := range read {
		if _, ok := keyed(name); !ok {
			t.Errorf("%s is read, and not described", name)
		}
	}
	if len(Keys) != len(read) {
		t.Errorf("%d keys are described, %d are read", len(Keys), len(read))
	}
}

// every gives a household with every key set to something that is not its default.
func every(t *testing.T) string {
	t.Helper()
	b, err := os.ReadFile("testdata/every.toml")
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// TestComposeDropsNoKey writes a household with every key, and reads it again.
func TestComposeDropsNoKey(t *testing.T) {
	h, err := Decode("household.toml", []byte(every(t)))
	if err != nil {
		t.Fatal(err)
	}
	text := Compose(*h)
	again, err := Decode("household.toml", text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	if !reflect.DeepEqual(h, again) {
		t.Errorf("got  %+v\nwant %+v\n%s", again, h, text)
	}
	for _, k := range Keys {
		if dot := strings.LastIndexByte(k.Name, '.'); dot > 0 && !strings.Contains(every(t), "\n"+k.Name[dot+1:]+" = ") {
			t.Errorf("the test has no %s", k.Name)
		}
	}
}

func TestTheSchemaKnowsEveryKey(t *testing.T) {
	type schema struct {
		Properties  map[string]*schema
		Items       *schema
		Description string
		Type        any
		Enum        []string
	}
	var s schema
	if err := json.Unmarshal(Schema(), &s); err != nil {
		t.Fatal(err)
	}
	for _, k := range Keys {
		if !strings.Contains(k.Name, ".") {
			continue
		}
		p := &s
		for part := range strings.SplitSeq(k.Name, ".") {
			if p != nil && p.Items != nil {
				p = p.Items
			}
			if p != nil {
				p = p.Properties[part]
			}
		}
		if p == nil || p.Description == "" || p.Type == nil {
			t.Errorf("%s is not in the schema", k.Name)
		}
	}
	if got := s.Properties["server"].Properties["start"].Enum; !slices.Equal(got, []string{"boot", "crash", "never"}) {
		t.Errorf("server.start may be %v", got)
	}
}
