package blueprint

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// Seen is one container of the household, as the engine has it.
type Seen struct {
	ID        string
	Name      string
	Digest    string    // of the blueprint, from its label
	Container Container // from its label; zero where that cannot be read
	Running   bool
	Waiting   bool   // it crashed, and the engine waits before it starts it again; Running too
	Health    string // starting, healthy, unhealthy; empty where the engine does not tell
	Started   time.Time
	Restarts  int
	ExitCode  int
	// Drift is what somebody changed on the engine by hand, a line each, such as
	// "memory limit 1.3 GiB → 3.0 GiB".
	Drift []string
}

// Observed is everything of one household on the engine.
type Observed struct {
	Containers []Seen
	Strays     []Seen   // throw-away containers that somebody's end left behind, or that are at work now
	Networks   []string // names of networks of ours
	Volumes    []string // names of volumes of ours
	Images     []string // digests of images of ours
	Kept       []string // of these, the ones that this household keeps
	Unkept     []string // of these, the ones that no household keeps or uses
}

// Running gives the container that runs, if one does.
func (o Observed) Running() (Seen, bool) {
	for _, c := range o.Containers {
		if c.Running {
			return c, true
		}
	}
	return Seen{}, false
}

// Current gives the container that the household has: the one that runs, or
// else the last one made.
func (o Observed) Current() (Seen, bool) {
	if c, ok := o.Running(); ok {
		return c, true
	}
	if len(o.Containers) == 0 {
		return Seen{}, false
	}
	return slices.MaxFunc(o.Containers, func(a, b Seen) int { return cmp.Or(a.Started.Compare(b.Started), strings.Compare(a.ID, b.ID)) }), true
}

// Host is what Compare needs to know of the host.
type Host struct {
	StateExists    bool
	ScratchExists  bool
	BackupsExist   bool // the folder of backups
	SettingsExists bool // the settings file of this very digest
	StoreExists    bool
	BackupExists   bool   // the backup that the blueprint names
	Unit           string // text of the household's unit of systemd; empty where there is none
	UnitEnabled    bool
}

// Action is what a change does.
type Action string

// The actions, in the order in which they are carried out.
const (
	MakeState     Action = "make-state"
	MakeScratch   Action = "make-scratch"
	MakeBackups   Action = "make-backups"
	LoadImage     Action = "load-image"
	MakeNetwork   Action = "make-network"
	MakeVolume    Action = "make-volume"
	WriteSettings Action = "write-settings"
	Prove         Action = "prove"
	Create        Action = "create"
	PutBack       Action = "put-back"
	StopOld       Action = "stop-old"
	TakeBackup    Action = "take-backup"
	PutStore      Action = "put-store"
	Start         Action = "start"
	AwaitHealthy  Action = "await-healthy"
	WriteUnit     Action = "write-unit"
	RemoveUnit    Action = "remove-unit"
	RemoveOld     Action = "remove-old"
	RemoveNetwork Action = "remove-network"
	RemoveVolume  Action = "remove-volume"
	RemoveImage   Action = "remove-image"
	EraseScratch  Action = "erase-scratch"
	EraseState    Action = "erase-state"
)

// Change is one step from what is to what should be. Target is an id, a name or
// a path, as the action needs it.
type Change struct {
	Action Action `json:"action"`
	Target string `json:"target"`
	What   string `json:"what"`
	Why    string `json:"why"`
}

// Compare gives the changes that lead from what is to the blueprint. No change
// is given where all is as it should be. Carried out half, and compared again,
// they lead to the same end.
func Compare(want Blueprint, have Observed, host Host) []Change {
	var out []Change
	add := func(a Action, target, what, why string) { out = append(out, Change{a, target, what, why}) }
	c := want.Container
	digest := c.Digest()
	var ours *Seen
	var old []Seen
	for i, s := range have.Containers {
		if s.Digest == digest && ours == nil {
			ours = &have.Containers[i]
		} else {
			old = append(old, s)
		}
	}
	if !host.StateExists {
		add(MakeState, want.State, fmt.Sprintf("make the state folder %s for %d:%d, mode 0700", want.State, want.OwnerUID, want.OwnerGID), "it does not exist")
	}
	if want.Scratch != "" && !host.ScratchExists {
		add(MakeScratch, want.Scratch, fmt.Sprintf("make the scratch folder %s for %d:%d, mode 0700", want.Scratch, want.OwnerUID, want.OwnerGID), "it does not exist")
	}
	if want.Backups != "" && !host.BackupsExist {
		add(MakeBackups, want.Backups, fmt.Sprintf("make the folder of backups %s for %d:%d, mode 0700", want.Backups, want.OwnerUID, want.OwnerGID), "it does not exist")
	}
	if !slices.Contains(have.Images, c.Image) {
		packed := c.Version
		if c.FFmpeg != "" {
			packed += ", with ffmpeg " + c.FFmpeg
		}
		add(LoadImage, c.Image, fmt.Sprintf("pack this program (%s) as image %s and load it", packed, short(c.Image)), "the engine does not have it")
	} else if ours == nil && !slices.Contains(have.Kept, c.Image) {
		add(LoadImage, c.Image, fmt.Sprintf("keep image %s (%s) for this household", short(c.Image), c.Version), "the engine has it already, for another one")
	}
	if c.OwnNet && !slices.Contains(have.Networks, c.Network) {
		add(MakeNetwork, c.Network, "make network "+c.Network, "the household has its own")
	}
	for _, v := range want.Volumes {
		if !slices.Contains(have.Volumes, v.Name) {
			to := "to read"
			if v.Write {
				to = "to change"
			}
			add(MakeVolume, v.Name, fmt.Sprintf("make a volume for %s, %s", v.Shown, to), "the engine mounts it for shelf "+v.Shelf)
		}
	}
	if !host.SettingsExists {
		add(WriteSettings, want.SettingsFile(), "write "+want.SettingsFile()+" into the state folder",
			"what the server needs of the household file")
	}
	why := reasons(c, old)
	for _, s := range have.Strays {
		if !s.Running {
			add(RemoveOld, s.ID, "remove "+s.Name, "a command that was cut off left it behind")
		}
	}
	if ours == nil {
		if len(c.Shelves()) > 0 {
			add(Prove, c.EngineName(), "try a sample of every shelf as the server will", "before the old one, if any, is given up")
		}
		add(Create, c.EngineName(), "create container "+c.EngineName(), why)
	}
	if ours != nil && len(ours.Drift) > 0 {
		add(PutBack, ours.ID, "put "+ours.Name+" back as it was made", "changed by hand: "+strings.Join(ours.Drift, "; "))
	}
	settled := ours != nil && ours.Running && !ours.Waiting && len(old) == 0 && want.Store == ""
	if !settled {
		for _, s := range old {
			if s.Running {
				add(StopOld, s.ID, "stop "+s.Name, "the new one takes its port")
			}
		}
		if ours != nil && ours.Running && want.Store != "" {
			add(StopOld, ours.ID, "stop "+ours.Name, "its store is replaced")
		}
		met := ours != nil && ours.Running // it has the store already
		out = append(out, storeChanges(want, host, old, met)...)
		if ours == nil || !ours.Running || ours.Waiting || want.Store != "" {
			reason := "it is stopped"
			switch {
			case ours == nil:
				reason = "it is new"
			case ours.Waiting:
				reason = "it crashed, and would wait before the next try"
			}
			add(Start, c.EngineName(), "start "+c.EngineName(), reason)
		}
		add(AwaitHealthy, c.EngineName(), "wait until it is healthy", "the old one, if any, is kept until then")
		for _, s := range old {
			add(RemoveOld, s.ID, "remove "+s.Name, "it is replaced")
		}
	}
	switch u := want.Unit; {
	case u != nil && (host.Unit != u.Text || !host.UnitEnabled):
		reason := "the household file has it start with the machine"
		if host.Unit != "" {
			reason = "it is to start what runs now"
		}
		add(WriteUnit, u.Path(), "write "+u.Path()+", and have systemd start it", reason)
	case u == nil && host.Unit != "":
		add(RemoveUnit, UnitName(c.Household), "remove "+UnitName(c.Household)+" from systemd", "it is not to start with the machine, or the engine sees to it")
	}
	for _, n := range have.Networks {
		if n != c.Network {
			add(RemoveNetwork, n, "remove network "+n, "the household no longer uses it")
		}
	}
	for _, n := range have.Volumes {
		if !slices.ContainsFunc(want.Volumes, func(v Volume) bool { return v.Name == n }) {
			add(RemoveVolume, n, "remove volume "+n+", not what is on the share", "the household no longer uses it")
		}
	}
	return append(out, leftImages(want, have)...)
}

// leftImages removes the programs that nobody needs any more: of those that the household
// keeps all but what it wants kept, and those that no household keeps or uses. It is worked
// out anew each time, so what a deployment that was cut off brought goes, too.
func leftImages(want Blueprint, have Observed) []Change {
	var out []Change
	if want.KeptImages != nil {
		for _, i := range have.Kept {
			if i != want.Container.Image && !slices.Contains(want.KeptImages, i) {
				out = append(out, Change{RemoveImage, i, "remove image " + short(i),
					"it is neither what runs nor what can be gone back to"})
			}
		}
	}
	for _, i := range have.Unkept {
		if i != want.Container.Image {
			out = append(out, Change{RemoveImage, i, "remove image " + short(i),
				"a command that was cut off left it behind; no household uses it"})
		}
	}
	return out
}

// storeChanges are those that another program needs before it meets the store, and
// those that put another store in its place. The server does not run meanwhile.
func storeChanges(want Blueprint, host Host, old []Seen, met bool) []Change {
	var out []Change
	other := slices.ContainsFunc(old, func(s Seen) bool { return s.Container.Image != want.Container.Image })
	if want.Backup != "" && host.StoreExists && !host.BackupExists && (other && !met || want.Store != "") {
		why := "another program is about to use the store"
		if want.Store != "" {
			why = "the store is about to be replaced; nothing of it is to be lost"
		}
		out = append(out, Change{TakeBackup, want.Backup, "back up the store and the settings to " + want.Backup, why})
	}
	if want.Store != "" {
		out = append(out, Change{PutStore, want.Store, "put the store of " + want.Store + " in place", "asked for"})
	}
	return out
}

// Retire gives the changes that remove everything of the household from the
// engine, and those folders of its own that are named, which may be empty. Media
// are never named here.
func Retire(household string, have Observed, images []string, unit bool, state, scratch string) []Change {
	var out []Change
	for _, s := range have.Containers {
		if s.Running {
			out = append(out, Change{StopOld, s.ID, "stop " + s.Name, "the household retires"})
		}
		out = append(out, Change{RemoveOld, s.ID, "remove " + s.Name, "the household retires"})
	}
	for _, s := range have.Strays {
		if s.Running {
			out = append(out, Change{StopOld, s.ID, "stop " + s.Name, "the household retires"})
		}
		out = append(out, Change{RemoveOld, s.ID, "remove " + s.Name, "the household retires"})
	}
	for _, n := range have.Networks {
		out = append(out, Change{RemoveNetwork, n, "remove network " + n, "the household retires"})
	}
	for _, n := range have.Volumes {
		out = append(out, Change{RemoveVolume, n, "remove volume " + n + ", not what is on the share", "the household retires"})
	}
	if unit {
		out = append(out, Change{RemoveUnit, UnitName(household), "remove " + UnitName(household) + " from systemd", "the household retires"})
	}
	for _, i := range images {
		out = append(out, Change{RemoveImage, i, "remove image " + short(i), "unless another household uses or keeps it"})
	}
	if scratch != "" {
		out = append(out, Change{EraseScratch, scratch, "remove the scratch folder " + scratch + ", if nothing is in it", "asked with --erase"})
	}
	if state != "" {
		out = append(out, Change{EraseState, state, "erase the state folder " + state + " (members, plays, positions)", "asked with --erase"})
	}
	return out
}

func short(digest string) string {
	_, hash, _ := strings.Cut(digest, ":")
	return hash[:min(12, len(hash))]
}

// reasons says in a line why a container is made anew.
func reasons(want Container, old []Seen) string {
	if len(old) == 0 {
		return "the household has none"
	}
	o := slices.MaxFunc(old, func(a, b Seen) int { return a.Started.Compare(b.Started) })
	d := Differences(o.Container, want)
	if len(d) == 0 {
		return "the household file or the program changed"
	}
	return strings.Join(d, "; ")
}

// Differences says what changes from one container to another, a line each.
func Differences(from, to Container) []string {
	var out []string
	if from.Household == "" {
		return nil
	}
	say := func(what string, a, b any) {
		if fmt.Sprint(a) != fmt.Sprint(b) {
			out = append(out, fmt.Sprintf("%s %v → %v", what, a, b))
		}
	}
	say("port", from.Port, to.Port)
	say("bind address", from.Host, to.Host)
	if from.Image != to.Image {
		say("ffmpeg in the image", cmp.Or(from.FFmpeg, "none"), cmp.Or(to.FFmpeg, "none"))
		if from.Version != to.Version || from.FFmpeg == to.FFmpeg {
			say("program", from.Version+" ("+short(from.Image)+")", to.Version+" ("+short(to.Image)+")")
		}
	}
	say("run-as account", fmt.Sprintf("%d:%d", from.UID, from.GID), fmt.Sprintf("%d:%d", to.UID, to.GID))
	say("groups", from.Groups, to.Groups)
	say("memory limit", humanize.IBytes(uint64(from.Memory)), humanize.IBytes(uint64(to.Memory)))
	say("processors", cores(from.NanoCPUs), cores(to.NanoCPUs))
	say("log limit", humanize.IBytes(uint64(from.LogLimit)), humanize.IBytes(uint64(to.LogLimit)))
	say("scratch in memory", humanize.IBytes(uint64(from.Tmpfs)), humanize.IBytes(uint64(to.Tmpfs)))
	say("network", from.Network, to.Network)
	say("time zone", from.Env["TZ"], to.Env["TZ"])
	say("household name", from.Name, to.Name)
	say("devices", from.Devices, to.Devices)
	say("start", from.Start, to.Start)
	say("name servers", from.DNS, to.DNS)
	say("hosts", from.Hosts, to.Hosts)
	key := func(m Mount) string { return m.What + " " + m.Place() }
	for _, m := range from.Mounts {
		i := slices.IndexFunc(to.Mounts, func(n Mount) bool { return key(n) == key(m) })
		if i < 0 {
			out = append(out, fmt.Sprintf("%s no longer from %s", m.What, m.Place()))
		} else if n := to.Mounts[i]; n.Source != m.Source {
			out = append(out, fmt.Sprintf("how %s mounts %s", m.What, m.Place()))
		} else if n.ReadOnly != m.ReadOnly {
			out = append(out, fmt.Sprintf("%s may be changed: %v → %v", m.What, !m.ReadOnly, !n.ReadOnly))
		}
	}
	for _, m := range to.Mounts {
		if !slices.ContainsFunc(from.Mounts, func(n Mount) bool { return key(n) == key(m) }) {
			out = append(out, fmt.Sprintf("%s also from %s", m.What, m.Place()))
		}
	}
	if len(out) == 0 && from.Settings != to.Settings {
		out = append(out, "settings of the server changed in the household file")
	}
	return out
}

// cores writes a limit of processor cores.
func cores(nano int64) string {
	if nano == 0 {
		return "all"
	}
	return humanize.Ftoa(float64(nano) / 1e9)
}

// Place is where a mount comes from, as the administrator wrote it.
func (m Mount) Place() string {
	if m.Volume {
		return m.Shown
	}
	return m.Source
}
