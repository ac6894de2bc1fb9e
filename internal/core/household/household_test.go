package household

import (
	"errors"
	"reflect"
	"strings"
	"testing"
)

const mill = `format = 1

[household]
name     = "Fernhollow Mill"
timezone = "Europe/Riga"
language = "en"

[server]
engine  = "auto"
run_as  = "shelfkeeper"
port    = 26990
bind    = "lan"
network = "own"
memory  = "1 GiB"

[storage]
state         = "/srv/cozyshelf/state"
scratch       = "memory"
scratch_limit = "2 GiB"

[[shelf]]
name    = "films"
kind    = "films"
folders = ["/srv/media/films", "/srv/more"]
access  = "read"

[[shelf]]
name    = "series"
kind    = "series"
folders = ["/srv/media/series"]
`

func TestDecodeReadsTheDesignsExample(t *testing.T) {
	h, err := Decode("household.toml", []byte(mill))
	if err != nil {
		t.Fatal(err)
	}
	if h.Server.Memory != 1<<30 || h.Storage.ScratchLimit != 2<<30 {
		t.Errorf("sizes: got %d and %d, want 1 GiB and 2 GiB", h.Server.Memory, h.Storage.ScratchLimit)
	}
	if got := h.Shelves[1].Access; got != Read {
		t.Errorf("access left out: got %q, want read", got)
	}
	if len(h.Shelves) != 2 || h.Shelves[0].Folders[1] != "/srv/more" {
		t.Errorf("shelves: got %+v", h.Shelves)
	}
}

func TestFaultsNamePlaceCauseAndRemedy(t *testing.T) {
	swap := func(old, new string) string {
		if !strings.Contains(mill, old) {
			t.Fatalf("the example has no %q", old)
		}
		return strings.Replace(mill, old, new, 1)
	}
	for name, c := range map[string]struct{ text, where, says, fix string }{
		"unknown key":       {swap("run_as ", "runas "), "h:10:1", "server.runas", `"run_as"`},
		"unknown section":   {mill + "\n[storge]\nx = 1\n", "h:32", "storge", `"storage"`},
		"wrong type":        {swap("port    = 26990", `port = "high"`), "h:11:8", "server.port", "whole number"},
		"wrong size":        {swap("1 GiB", "lots"), "h:14:11", "not a size", "size"},
		"size without unit": {swap(`"1 GiB"`, `"1000"`), "h:14", "not a size", ""},
		"syntax":            {swap("[server]", "[server"), "h:8", "", ""},
		"format":            {swap("format = 1", "format = 2"), "h:1:1", "format 1", ""},
		"port out of range": {swap("26990", "70000"), "h:11:1", "70000", ""},
		"port zero":         {swap("26990", "0"), "h:11:1", "out of range", ""},
		"port negative":     {swap("26990", "-1"), "h:11:1", "out of range", ""},
		"bind":              {swap(`"lan"`, `"somewhere"`), "h:12:1", "not an address", ""},
		"engine":            {swap(`"auto"`, `"steam"`), "h:9:1", "steam", "docker"},
		"time zone":         {swap("Europe/Riga", "Europe/Fernhollow"), "h:5:1", "not known", "IANA"},
		"run_as":            {swap("shelfkeeper", "1500:"), "h:10:1", "neither", ""},
		"group": {swap("port    = 26990", "groups = [\"media\", \"-3\"]\nport = 26990"), "h:11:20",
			"neither", "group's name"},
		"run_as too large":   {swap("shelfkeeper", "4294967295:1"), "h:10:1", "neither", ""},
		"no processors":      {swap(`run_as  = "shelfkeeper"`, "processors = -1.0"), "h:10:1", "no number", ""},
		"tiny log":           {swap(`run_as  = "shelfkeeper"`, `log_limit = "1 KiB"`), "h:10:1", "too little", ""},
		"run_as empty":       {swap(`run_as  = "shelfkeeper"`, `run_as  = ""`), "h:10:1", "no run-as", "shelfkeeper"},
		"same shelf twice":   {swap(`name    = "series"`, `name = "films"`), "h:28:1", "two shelves", ""},
		"kind":               {swap(`kind    = "series"`, `kind = "books"`), "h:29:1", "books", "films"},
		"access":             {swap(`"read"`, `"own"`), "h:25:1", "own", ""},
		"relative folder":    {swap(`"/srv/media/series"`, `"media/series"`), "h:30:12", "begin with /", ""},
		"dots":               {swap(`"/srv/media/series"`, `"/srv/../etc"`), "h:30:12", "..", ""},
		"root folder":        {swap(`"/srv/media/series"`, `"/"`), "h:30:12", "whole machine", ""},
		"same folder twice":  {swap(`"/srv/more"`, `"/srv/media/films/"`), "h:24:32", "also", ""},
		"nested":             {swap(`"/srv/media/series"`, `"/srv/media/films/tv"`), "h:30:12", "inside", ""},
		"containing":         {swap(`"/srv/media/series"`, `"/srv/media"`), "h:30:12", "contains", ""},
		"shelf in the state": {swap(`"/srv/media/series"`, `"/srv/cozyshelf/state/x"`), "h:30:12", "state folder", ""},
		"no folders":         {swap(`["/srv/media/series"]`, `[]`), "h:27", "no folder", ""},
		"proxy":              {mill + "\n[remote]\ntrusted_proxies = [\"router\"]\n", "h:33:20", "neither", ""},
		"remote address":     {mill + "\n[remote]\naddress = \"shelf.example.net\"\n", "h:33:1", "address", "https://"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Decode("h", []byte(c.text))
			var faults Faults
			if !errors.As(err, &faults) {
				t.Fatalf("got %v, want faults", err)
			}
			p := faults[0]
			if !strings.HasPrefix(p.Where, c.where) {
				t.Errorf("where: got %q, want %q", p.Where, c.where)
			}
			if !strings.Contains(p.What+p.Why, c.says) {
				t.Errorf("got %q / %q, want it to say %q", p.What, p.Why, c.says)
			}
			if !strings.Contains(p.Fix, c.fix) || p.Fix == "" {
				t.Errorf("fix: got %q, want it to say %q", p.Fix, c.fix)
			}
			if p.Exit != 2 {
				t.Errorf("exit: got %d, want 2", p.Exit)
			}
		})
	}
}

func TestAllFaultsAreReportedAtOnce(t *testing.T) {
	text := strings.NewReplacer("26990", "0", "Europe/Riga", "Nowhere", `"/srv/more"`, `"more"`).Replace(mill)
	_, err := Decode("h", []byte(text))
	var faults Faults
	if !errors.As(err, &faults) || len(faults) != 3 {
		t.Fatalf("got %v, want three faults", err)
	}
}

func TestComposedFilesReadBackTheSame(t *testing.T) {
	for _, name := range []string{"Fernhollow Mill", `The "Mill" \ Yard`, "Mühle\u007f? 水車"} {
		h := Household{Format: 1}
		h.Household.Name = name
		h.Server.RunAs = "1500:1500"
		h.Server.Groups = []string{"media", "44"}
		h.Storage.State = "/srv/cozyshelf/state"
		h.Shelves = []Shelf{{Name: "films", Kind: Films, Folders: []string{`/srv/a "b"/films`}, Access: Change}}
		h.Remote = Remote{Address: "https://shelf.example.net", TrustedProxies: []string{"192.0.2.10"}}
		h.defaults(nothing)
		got, err := Decode("h", Compose(h))
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, Compose(h))
		}
		if !reflect.DeepEqual(*got, h) {
			t.Errorf("got  %+v\nwant %+v", *got, h)
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(mill))
	f.Add([]byte("format = 1\n[[shelf]]\n[[shelf]]\nfolders = [\"\\u0000\"]"))
	f.Add([]byte("server = 3"))
	f.Fuzz(func(t *testing.T, text []byte) {
		h, err := Decode("h", text)
		if err != nil {
			var faults Faults
			if !errors.As(err, &faults) || len(faults) == 0 || faults[0].Where == "" || faults[0].Fix == "" {
				t.Fatalf("a fault without a place or a remedy: %#v", err)
			}
			return
		}
		again, err := Decode("h", Compose(*h))
		if err != nil {
			t.Fatalf("what was accepted is refused once composed: %v\n%s", err, Compose(*h))
		}
		// Sizes are composed in rounded units, so they are compared as texts.
		if again.Server.Memory.String() != h.Server.Memory.String() || !reflect.DeepEqual(again.Shelves, h.Shelves) {
			t.Fatalf("composing changed the household:\n%+v\n%+v", h, again)
		}
	})
}
