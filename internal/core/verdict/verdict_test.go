package verdict

import (
	"strings"
	"testing"

	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
)

// well gives a household and a machine on which all is well.
// containers is what an engine that runs containers can do.
var containers = facts.Capabilities{Isolates: true, Networks: true, HostNetwork: true, Volumes: true, Limits: true,
	Boots: true, Becomes: true}

func well() (*household.Household, facts.Facts) {
	h := &household.Household{Format: 1}
	h.Household.Name, h.Household.Timezone = "Fernhollow Mill", "Europe/Riga"
	h.Server.Memory, h.Storage.ScratchLimit, h.Storage.Scratch = 1<<30, 256<<20, "memory"
	h.Shelves = []household.Shelf{{Name: "films"}}
	return h, facts.Facts{
		OS: "linux", Arch: "amd64", CPUs: 4, Memory: 8 << 30, MemoryAvailable: 4 << 30,
		Account: facts.Account{Asked: "1500:1500", Known: true, UID: 1500, GID: 1500},
		Engine: facts.Engine{Kind: "docker", Can: containers, Answers: true, Version: "20.10", API: "1.41",
			Arch: "amd64"},
		Ports: []facts.Port{{Address: "[::]:26990", Free: true}},
		State: facts.Folder{Path: "/srv/state", Parent: "/srv", Creatable: true, Free: 9 << 30},
		Shelves: []facts.Shelf{{Name: "films", Folders: []facts.Folder{{
			Path: "/srv/films", Real: "/srv/films", Exists: true, IsFolder: true, Free: 1,
			Access: &permit.Report{Files: 3, ReadableFiles: 3, Folders: 1, ListableFolders: 1},
		}}}},
	}
}

// TestLinesOfFoldersSayWhichFolder has two folders of a shelf of which one's path begins with
// the other's.
func TestLinesOfFoldersSayWhichFolder(t *testing.T) {
	h, f := well()
	second := f.Shelves[0].Folders[0]
	second.Path += " and more"
	second.Real, second.Exists = second.Path, false
	f.Shelves[0].Folders = append(f.Shelves[0].Folders, second)
	got := map[string]Status{}
	for _, l := range Judge(h, f) {
		if l.About != "" {
			got[l.About] = l.Status
		}
	}
	first := f.Shelves[0].Folders[0].Path
	if got[first] == Blocked || got[first] == "" || got[second.Path] != Blocked || got[f.State.Path] == "" {
		t.Errorf("got %v; want %s usable, %s blocked, and %s judged", got, first, second.Path, f.State.Path)
	}
}

func TestEveryFaultIsFoundAndSaysWhatToDo(t *testing.T) {
	for name, c := range map[string]struct {
		spoil  func(*household.Household, *facts.Facts)
		what   string
		status Status
		says   string
	}{
		"no ffmpeg": {func(h *household.Household,
			f *facts.Facts) {
			h.Quiet.Work = []string{household.Frames}
			f.FFmpeg = &facts.FFmpeg{Why: "not in $PATH"}
		}, "quiet work", Warning, "not in $PATH"},
		"no ffmpeg to convert with": {func(h *household.Household, f *facts.Facts) {
			h.Convert.When = household.ConvertNeeded
			f.FFmpeg = &facts.FFmpeg{Why: "not in $PATH"}
		}, "converting", Warning, "[convert] asks for"},
		"little scratch to convert in": {func(h *household.Household, f *facts.Facts) {
			h.Convert.When, h.Convert.AtOnce = household.ConvertNeeded, 6
			f.FFmpeg, h.Server.Memory = &facts.FFmpeg{Version: "5.1"}, 8<<30
		}, "room to convert", Warning, "of scratch, and scratch_limit is 256 MiB"},
		"little memory to convert in": {func(h *household.Household, f *facts.Facts) {
			h.Convert.When, h.Convert.AtOnce, h.Convert.Ladder = household.ConvertNeeded, 3, []int{1080}
			f.FFmpeg, h.Storage.ScratchLimit, h.Server.Memory = &facts.FFmpeg{Version: "5.1"}, 1<<30, 1<<30
		}, "memory to convert", Warning,
			"3 films of 1080 lines at once may take 1.3 GiB of memory, and the server has 1.0 GiB"},
		"a device that makes no picture": {func(h *household.Household, f *facts.Facts) {
			h.Convert.When = household.ConvertNeeded
			f.FFmpeg = &facts.FFmpeg{Version: "5.1", Ways: []facts.Way{
				{Name: "va-api /dev/dri/renderD128", Hardware: true, Why: "no driver"}, {Name: "software"}}}
		}, "way to convert", Warning, "va-api /dev/dri/renderD128 was tried and does not work: no driver"},
		"an ffmpeg that makes no H.264": {func(h *household.Household, f *facts.Facts) {
			h.Convert.When = household.ConvertNeeded
			f.FFmpeg = &facts.FFmpeg{Version: "5.1", Ways: []facts.Way{{Name: "software", Why: "Unknown encoder"}}}
		}, "way to convert", Warning, "Unknown encoder"},
		"engine silent": {func(h *household.Household, f *facts.Facts) {
			f.Engine.Answers,
				f.Engine.Error = false, "refused"
		}, "engine", Blocked, "refused"},
		"other architecture": {func(h *household.Household, f *facts.Facts) { f.Engine.Arch = "arm64" },
			"architecture", Blocked, "arm64"},
		"engine elsewhere": {func(h *household.Household, f *facts.Facts) { f.Engine.Elsewhere = true }, "place",
			Warning, "another machine"},
		"too little memory": {func(h *household.Household, f *facts.Facts) { f.Memory = 1 << 30 }, "memory", Blocked,
			"1.3 GiB"},
		"memory in use": {func(h *household.Household, f *facts.Facts) { f.MemoryAvailable = 1 << 30 }, "memory",
			Warning, ""},
		"too many processors": {func(h *household.Household, f *facts.Facts) { h.Server.Processors = 5 }, "processors",
			Blocked, "there are 4"},
		"port taken": {func(h *household.Household, f *facts.Facts) {
			f.Ports[0].Free, f.Ports[0].Holder, f.Ports[0].Next = false, "nginx (pid 7)", 26991
		}, "port", Blocked, "nginx"},
		"port of a container": {func(h *household.Household, f *facts.Facts) {
			f.Ports[0].Free, f.Ports[0].Holder, f.Ports[0].Next = false, "docker-proxy (pid 7)", 26991
		}, "port", Blocked, "docker-proxy"},
		"port of a neighbour": {func(h *household.Household, f *facts.Facts) {
			f.Ports = []facts.Port{{Address: ":1", Holder: "docker-proxy (pid 7)",
				Neighbour: &facts.Neighbour{Name: "The Boathouse", Engine: "docker"}}}
		}, "port", Blocked, "The Boathouse"},
		"left behind": {func(h *household.Household, f *facts.Facts) { f.Left = []string{"half a server"} },
			"leftovers",
			Warning, "1 thing"},
		"deployed on another engine": {func(h *household.Household, f *facts.Facts) {
			f.Others = []facts.Other{{Kind: "podman", Container: "cozyshelf-mill-1", Running: true}}
		}, "other engine", Blocked, "podman already (cozyshelf-mill-1, running)"},
		"port not ours": {func(h *household.Household, f *facts.Facts) { f.Ports[0].Error = "permission denied" },
			"port", Blocked, "denied"},
		"account unknown": {func(h *household.Household, f *facts.Facts) {
			f.Account.Known, f.Account.Asked = false,
				"shelfkeeper"
		}, "run-as account", Blocked, "shelfkeeper"},
		"root": {func(h *household.Household, f *facts.Facts) { f.Account.UID = 0 }, "run-as account",
			Warning, "root"},
		"not the caller": {func(h *household.Household, f *facts.Facts) {
			f.Engine.Can,
				f.CallerUID = facts.Capabilities{}, 1000
		}, "run-as account", Blocked, "not you"},
		"state cannot be": {func(h *household.Household, f *facts.Facts) { f.State.Creatable = false },
			"state folder", Blocked, "may not make it"},
		"state not given": {func(h *household.Household, f *facts.Facts) { f.CallerUID = 1000 }, "state folder",
			Blocked, "cannot give it"},
		"state is full": {func(h *household.Household, f *facts.Facts) { f.State.Free = 1 << 20 }, "state folder",
			Blocked, "1.0 MiB"},
		"state is a file": {func(h *household.Household, f *facts.Facts) { f.State.Exists = true }, "state folder",
			Blocked, "is a file"},
		"state is read-only": {func(h *household.Household, f *facts.Facts) { f.State.ReadOnly = true },
			"state folder", Blocked, "read-only"},
		"state not writable": {func(h *household.Household, f *facts.Facts) {
			f.State.Exists, f.State.IsFolder, f.State.Access = true, true,
				&permit.Report{Folders: 1, Failing: 1, First: []permit.Finding{{Path: "/srv/state", Cause: "as other"}}}
		}, "state folder", Blocked, "cannot be used"},
		"folder missing": {func(h *household.Household, f *facts.Facts) {
			f.Shelves[0].Folders[0] = facts.Folder{Path: "/srv/films"}
		}, "shelf films", Blocked, "does not exist"},
		"folder is a file": {func(h *household.Household, f *facts.Facts) { f.Shelves[0].Folders[0].IsFolder = false },
			"shelf films", Blocked, "is a file"},
		"nothing readable": {func(h *household.Household, f *facts.Facts) {
			*f.Shelves[0].Folders[0].Access = permit.Report{Files: 3, Folders: 1, Failing: 3}
		}, "shelf films", Blocked, "0 of 3"},
		"one unreadable": {func(h *household.Household, f *facts.Facts) {
			f.Shelves[0].Folders[0].Access.ReadableFiles, f.Shelves[0].Folders[0].Access.Failing = 2, 1
		}, "shelf films", Warning, "2 of 3"},
		"not writable": {func(h *household.Household, f *facts.Facts) {
			f.Shelves[0].Write, f.Shelves[0].Folders[0].Free, f.Shelves[0].Folders[0].Access.Failing = true, 9<<30, 1
		}, "shelf films", Warning, "0 writable"},
		"empty": {func(h *household.Household, f *facts.Facts) {
			*f.Shelves[0].Folders[0].Access = permit.Report{Folders: 1, ListableFolders: 1}
		}, "shelf films", Warning, "0 of 0"},
		"no shelf": {func(h *household.Household, f *facts.Facts) { f.Shelves = nil }, "shelves", Warning, "no shelf"},
		"one place twice": {func(h *household.Household, f *facts.Facts) {
			f.Shelves = append(f.Shelves,
				facts.Shelf{Name: "series",
					Folders: []facts.Folder{{Path: "/srv/link", Real: "/srv/films", Exists: true, IsFolder: true}}})
		}, "shelf series", Blocked, "same place"},
		"scratch not useable": {func(h *household.Household, f *facts.Facts) {
			f.Scratch = &facts.Folder{Path: "/srv/scratch", Parent: "/srv", Free: 9 << 30}
		}, "scratch folder", Blocked, "may not make it"},
	} {
		t.Run(name, func(t *testing.T) {
			h, f := well()
			if lines := Judge(h, f); Worst(lines) != OK {
				t.Fatalf("the sound machine is not: %+v", lines)
			}
			c.spoil(h, &f)
			for _, l := range Judge(h, f) {
				if l.What == c.what {
					if l.Status != c.status || !strings.Contains(l.Says, c.says) || l.Do == "" {
						t.Errorf("got %+v, want %s saying %q, with a remedy", l, c.status, c.says)
					}
					return
				}
			}
			t.Errorf("no line %q", c.what)
		})
	}
}
