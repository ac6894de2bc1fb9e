package blueprint

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
)

func mill(t *testing.T) *household.Household {
	t.Helper()
	h := household.Household{Format: 1}
	h.Household.Name = "Fernhollow Mill"
	h.Household.Timezone = "Europe/Riga"
	h.Server.RunAs = "1500:1500"
	h.Storage.State = "/srv/cozyshelf/state"
	h.Shelves = []household.Shelf{
		{Name: "films", Kind: household.Films, Folders: []string{"/srv/media/films", "/srv/more"}},
		{Name: "own", Kind: household.Recordings, Folders: []string{"/srv/media/own"}, Access: household.Change},
	}
	got, err := household.Decode("h", household.Compose(h))
	if err != nil {
		t.Fatal(err)
	}
	return got
}

// containers is what an engine that runs containers can do.
var containers = facts.Capabilities{Isolates: true, Networks: true, HostNetwork: true, Volumes: true, Limits: true,
	Boots: true, Becomes: true}

var site = Site{Engine: "docker", Can: containers, UID: 1500, GID: 1500, Groups: []uint32{44, 1500},
	Image: "sha256:0123456789abcdef", Version: "0.1.0"}

func TestContainersAreClosedByDefault(t *testing.T) {
	bp := Draw(mill(t), site)
	c := bp.Server()
	writable := []string{}
	for _, m := range c.Mounts {
		if !m.ReadOnly {
			writable = append(writable, m.Target)
		}
	}
	if want := []string{"/state", "/shelves/own/1"}; !slices.Equal(writable, want) {
		t.Errorf("writable: got %v, want %v", writable, want)
	}
	if c.Memory != 1<<30+c.Tmpfs || c.Tmpfs == 0 {
		t.Errorf("the limit must count scratch in memory: limit %d, scratch %d", c.Memory, c.Tmpfs)
	}
	if !slices.Equal(c.Groups, []uint32{44}) {
		t.Errorf("supplementary groups: got %v, want [44]", c.Groups)
	}
	if c.Mounts[2].Target != "/shelves/films/2" {
		t.Errorf("second folder: got %s", c.Mounts[2].Target)
	}
}

func TestProcessEngineUsesTheHostsOwnPaths(t *testing.T) {
	s := site
	s.Engine, s.Can = "process", facts.Capabilities{}
	bp := Draw(mill(t), s)
	if got := bp.Settings.Shelves[0].Folders[0]; got != "/srv/media/films" {
		t.Errorf("got %s", got)
	}
	if bp.Settings.State != "/srv/cozyshelf/state" || bp.Settings.Listeners[0].Address != "[::]:26990" ||
		bp.Server().Tmpfs != 0 {
		t.Errorf("got %+v", bp.Settings)
	}
}

func TestLabelsReadBackAndForgedOnesDoNot(t *testing.T) {
	c := Draw(mill(t), site).Server()
	l := c.Labels()
	if got, ok := FromLabels(l); !ok || got.Digest() != c.Digest() {
		t.Errorf("got %+v, %v", got, ok)
	}
	l[LabelContainer] = strings.Replace(l[LabelContainer], "26990", "26991", 1)
	if _, ok := FromLabels(l); ok {
		t.Error("labels that do not agree were believed")
	}
}

func TestDigestFollowsEveryFieldOfTheContainer(t *testing.T) {
	c := Draw(mill(t), site).Server()
	b, _ := json.Marshal(c)
	var fields map[string]any
	json.Unmarshal(b, &fields)
	for k, v := range fields {
		changed := map[string]any{}
		json.Unmarshal(b, &changed)
		switch v := v.(type) {
		case string:
			changed[k] = v + "x"
		case float64:
			changed[k] = v + 1
		case bool:
			changed[k] = !v
		case map[string]any:
			switch k {
			case "hardening":
				changed[k] = map[string]any{"writable_root": true}
			default:
				changed[k] = nil
			}
		default:
			changed[k] = nil
		}
		out, _ := json.Marshal(changed)
		var d Service
		if err := json.Unmarshal(out, &d); err != nil {
			t.Fatal(err)
		}
		if d.Digest() == c.Digest() {
			t.Errorf("%s does not count", k)
		}
	}
}

func TestWhatWasChangedByHandIsPutBack(t *testing.T) {
	bp := Draw(mill(t), site)
	have := Observed{Images: []string{bp.Server().Image.Program}, Networks: []string{bp.Server().Network},
		Containers: []Container{{ID: "1", Digest: bp.Server().Digest(), Service: bp.Server(), Key: ServerKey,
			Running: true}}}
	host := Host{StateExists: true, SettingsExists: true}
	if c := Compare(bp, have, host); len(c) != 0 {
		t.Fatalf("nothing drifted: %+v", c)
	}
	have.Containers[0].Drift = []string{"memory limit 1 GiB → none"}
	if c := Compare(bp, have, host); len(c) != 1 || c[0].Action != PutBack ||
		!strings.Contains(c[0].Why, "1 GiB → none") {
		t.Errorf("got %+v", c)
	}
}

func TestReasonsNameWhatChanged(t *testing.T) {
	a := Draw(mill(t), site)
	h := mill(t)
	h.Server.Port = 26991
	h.Shelves[0].Folders = append(h.Shelves[0].Folders, "/srv/third")
	h.Shelves[1].Access = household.Read
	b := Draw(h, site)
	got := strings.Join(Differences(a.Server(), b.Server()), "; ")
	for _, want := range []string{"port 26990 → 26991", "films also from /srv/third", "own: change → read"} {
		if !strings.Contains(got, want) {
			t.Errorf("got %q, want %q in it", got, want)
		}
	}
	with := site
	with.FFmpeg, with.Image = "5.1.9", "sha256:other"
	if got := Differences(a.Server(), Draw(mill(t), with).Server()); len(got) != 1 ||
		got[0] != "ffmpeg in the image none → 5.1.9" {
		t.Errorf("got %v", got)
	}
	h = mill(t)
	h.Remote.TrustedProxies = []string{"192.0.2.1"}
	if got := Differences(a.Server(), Draw(h, site).Server()); len(got) != 1 || !strings.Contains(got[0], "settings") {
		t.Errorf("settings only: got %v", got)
	}
}

func TestRetireNamesNoMedia(t *testing.T) {
	have := Observed{Containers: []Container{{ID: "1", Name: "a", Running: true}, {ID: "2", Name: "b"}},
		Networks: []string{"n"}}
	for state, erase := range map[string]bool{"": false, "/srv/cozyshelf/state": true} {
		erases := 0
		for _, c := range Retire(Leaving{Household: "x", Images: []string{"sha256:ab"}, Unit: true, State: state},
			have) {
			if strings.Contains(c.What+c.Target, "/srv/media") {
				t.Errorf("a shelf's folder is named: %+v", c)
			}
			if c.Action == EraseState {
				erases++
			}
		}
		if (erases == 1) != erase {
			t.Errorf("erase %v: %d changes erase", erase, erases)
		}
	}
}

// TestAShelfMayBeCalledAsOurFoldersAre draws shelves with the names of the state folder and
// scratch: they are mounted as shelves, and tried before the old container is given up.
func TestAShelfMayBeCalledAsOurFoldersAre(t *testing.T) {
	h := &household.Household{}
	h.Storage.State, h.Storage.Scratch = "/srv/state", "/srv/scratch"
	for _, n := range []string{"state", "scratch", "backups"} {
		h.Shelves = append(h.Shelves, household.Shelf{Name: n, Kind: household.Films,
			Folders: []string{"/srv/" + n + " of films"}})
	}
	c := Draw(h, Site{Can: containers}).Server()
	if list := c.Shelves(); len(list) != 3 {
		t.Errorf("shelves: %+v", list)
	}
	roles := map[string]MountRole{}
	for _, m := range c.Mounts {
		roles[m.Source] = m.Role
	}
	for at, want := range map[string]MountRole{"/srv/state": MountState, "/srv/scratch": MountScratch,
		"/srv/state of films": MountShelf, "/srv/scratch of films": MountShelf, "/srv/backups of films": MountShelf} {
		if roles[at] != want {
			t.Errorf("%s is mounted as %q, want %q", at, roles[at], want)
		}
	}
	if got := len(c.Once(nil).Mounts); got != 3 {
		t.Errorf("a throw-away run has %d mounts, want the shelves", got)
	}
}

// TestWhichProgramsGo looks at what is removed of the programs that an engine has, whatever
// a deployment that was cut off has left there.
func TestWhichProgramsGo(t *testing.T) {
	bp := Draw(&household.Household{}, Site{Image: "sha256:a", Can: containers})
	for _, c := range []struct {
		keep, kept, unkept []string
		want               string
	}{
		{[]string{"sha256:a", "sha256:b"}, []string{"sha256:a", "sha256:b"}, nil, "[]"},
		{[]string{"sha256:a", "sha256:b"}, []string{"sha256:a", "sha256:b", "sha256:c"}, nil, "[sha256:c]"},
		{[]string{"sha256:a"}, []string{"sha256:a", "sha256:b"}, []string{"sha256:d"}, "[sha256:b sha256:d]"},
		{nil, []string{"sha256:a", "sha256:b", "sha256:c"}, nil, "[]"},
		{[]string{"sha256:b"}, nil, []string{"sha256:a"}, "[]"},
	} {
		bp.KeptImages = c.keep
		have := Observed{Images: append(c.kept, c.unkept...), Kept: c.kept, Unkept: c.unkept}
		gone := []string{}
		for _, ch := range Compare(bp, have, Host{}) {
			if ch.Action == RemoveImage {
				gone = append(gone, ch.Target)
			}
		}
		if fmt.Sprint(gone) != c.want {
			t.Errorf("to keep %v, kept %v, kept by none %v: removed are %v, want %s", c.keep, c.kept, c.unkept, gone,
				c.want)
		}
	}
}

// TestAServerThatTheEngineWaitsForIsStarted compares with one that crashed a moment ago.
func TestAServerThatTheEngineWaitsForIsStarted(t *testing.T) {
	bp := Draw(&household.Household{}, Site{Can: containers})
	ours := Container{ID: "1", Digest: bp.Server().Digest(), Service: bp.Server(), Key: ServerKey, Running: true,
		Waiting: true}
	host := Host{StateExists: true, SettingsExists: true}
	have := Observed{Containers: []Container{ours}, Images: []string{bp.Server().Image.Program},
		Kept:     []string{bp.Server().Image.Program},
		Networks: nil}
	var did []Action
	for _, c := range Compare(bp, have, host) {
		did = append(did, c.Action)
	}
	if fmt.Sprint(did) != "[start await-healthy]" {
		t.Errorf("changes: %v", did)
	}
	have.Containers[0].Waiting = false
	if left := Compare(bp, have, host); len(left) != 0 {
		t.Errorf("one that runs: %v", left)
	}
}
