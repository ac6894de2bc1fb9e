package household

import (
	"errors"
	"reflect"
	"strings"
	"testing"
)

func TestShelvesAreAddedAndRemovedWithAllElseLeftAsItIs(t *testing.T) {
	remote := "\n# the way in, kept by hand\n[remote]  # from outside\naddress = \"https://shelf.example.net\"\n"
	for name, text := range map[string]string{
		"shelves last":       mill,
		"a section after":    mill + remote,
		"no shelf":           mill[:strings.Index(mill, "\n[[shelf]]")] + remote,
		"comments at end":    mill + "\n# a note at the end\n",
		"remote before them": strings.Replace(mill, "\n[storage]", remote+"\n[storage]", 1),
	} {
		t.Run(name, func(t *testing.T) {
			before, err := Decode("h", []byte(text))
			if err != nil {
				t.Fatal(err)
			}
			s := Shelf{Name: "own", Kind: Recordings, Folders: []string{`/srv/own "b"`, "/srv/own2"}, Access: Change}
			added, err := AddShelf("h", []byte(text), s)
			if err != nil {
				t.Fatal(err)
			}
			after, err := Decode("h", added)
			if err != nil {
				t.Fatal(err)
			}
			if want := append(before.Shelves, s); !reflect.DeepEqual(after.Shelves, want) {
				t.Errorf("got %+v, want %+v", after.Shelves, want)
			}
			for line := range strings.Lines(text) {
				if !strings.Contains(string(added), line) {
					t.Errorf("lost: %q", line)
				}
			}
			back, err := RemoveShelf("h", added, "own")
			if err != nil || string(back) != text {
				t.Errorf("taken out again: %v\n%s\nwant\n%s", err, back, text)
			}
		})
	}
}

func TestAShelfInTheMiddleIsTakenOutAlone(t *testing.T) {
	text := strings.Replace(mill, "[[shelf]]\nname    = \"series\"",
		"# what bram likes\n[[shelf]]\nname    = \"series\"", 1)
	out, err := RemoveShelf("h", []byte(text), "films")
	if err != nil {
		t.Fatal(err)
	}
	h, err := Decode("h", out)
	if err != nil || len(h.Shelves) != 1 || h.Shelves[0].Name != "series" ||
		!strings.Contains(string(out), "# what bram likes") {
		t.Errorf("%v\n%s", err, out)
	}
	if _, err := RemoveShelf("h", []byte(text), "books"); !errors.Is(err, ErrNoShelf) {
		t.Errorf("an unknown shelf: got %v", err)
	}
	var faults Faults
	if _, err := AddShelf("h", []byte(text),
		Shelf{Name: "films", Kind: Films, Folders: []string{"/srv/x"}}); !errors.As(err, &faults) {
		t.Errorf("the same name again: got %v", err)
	}
	if _, err := AddShelf("h", []byte(text),
		Shelf{Name: "more", Kind: Films, Folders: []string{"/srv/media/films/in"}}); !errors.As(err, &faults) {
		t.Errorf("a folder within another: got %v", err)
	}
}

func TestGroupsAreAddedInPlace(t *testing.T) {
	rest := "[storage]\nstate = \"/srv/s\"\n"
	for before, after := range map[string]string{
		"[server]\nrun_as = \"1:1\" # who\nport = 26991\n": "[server]\nrun_as = \"1:1\" # " +
			"who\ngroups  = [\"44\"]\nport = 26991\n",
		"[server]\nrun_as = \"1:1\"\ngroups = []\n": "[server]\nrun_as = \"1:1\"\ngroups " +
			"= [\"44\"]\n",
		"[server]\nrun_as = \"1:1\"\ngroups = [\"a]\", # odd ]\n \"b\", ]\n": "",
		"[server]\nrun_as = \"1:1\"\ngroups = [\"7\"] # mine\n": "[server]\nrun_as = \"1:1\"\ngroups " +
			"= [\"7\", \"44\"] # mine\n",
		"[server]\nrun_as = \"1:1\"\ngroups = [\n  \"7\",\n]\n": "[server]\nrun_as = \"1:1\"\ngroups = [\n  \"7\", " +
			"\"44\"]\n",
		"[server]\nrun_as = \"1:1\"\ngroups = [\"44\"]\n": "[server]\nrun_as = \"1:1\"\ngroups = [\"44\"]\n",
	} {
		head := "format = 1\n[household]\nname = \"x\"\n"
		got, err := AddGroup("h", []byte(head+before+rest), "44")
		if after == "" {
			if err == nil {
				t.Errorf("%s: got %s", before, got)
			}
			continue
		}
		if err != nil || string(got) != head+after+rest {
			t.Errorf("%s\ngot  %s\nwant %s\n%v", before, got, head+after+rest, err)
		}
	}
}
