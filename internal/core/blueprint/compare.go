package blueprint

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Container is one container of the household, as the engine has it.
type Container struct {
	ID      string
	Name    string
	Key     string  // which service it is of, from its label (KeyOf)
	Digest  string  // of the service, from its label
	Service Service // from its label; zero where that cannot be read
	Running bool
	Waiting bool   // it crashed, and the engine waits before it starts it again; Running too
	Health  string // starting, healthy, unhealthy; empty where the engine does not tell
	Started time.Time
	// Restarts is how often the engine started it again by itself.
	Restarts int
	ExitCode int
	// Drift is what somebody changed on the engine by hand, a line each, such as
	// "memory limit 1.3 GiB → 3.0 GiB".
	Drift []string
}

// Observed is everything of one household on the engine.
type Observed struct {
	Containers []Container
	Strays     []Container // throw-away containers that somebody's end left behind, or that are at work now
	Networks   []string    // names of networks of ours
	Volumes    []string    // names of volumes of ours
	Images     []string    // keys of the images that can be used (Image.Key)
	Kept       []string    // digests of programs that this household keeps
	Unkept     []string    // digests of programs that no household keeps or uses
}

// Running gives the server that runs, if one does.
func (o Observed) Running() (Container, bool) { return o.RunningOf(ServerKey) }

// RunningOf gives the container of a service that runs, if one does.
func (o Observed) RunningOf(key string) (Container, bool) {
	for _, c := range o.Containers {
		if c.Running && c.Key == key {
			return c, true
		}
	}
	return Container{}, false
}

// Current gives the server that the household has: the one that runs, or
// else the last one made.
func (o Observed) Current() (Container, bool) { return o.CurrentOf(ServerKey) }

// CurrentOf gives the container that the household has of a service.
func (o Observed) CurrentOf(key string) (Container, bool) {
	if c, ok := o.RunningOf(key); ok {
		return c, true
	}
	all := slices.DeleteFunc(slices.Clone(o.Containers), func(c Container) bool { return c.Key != key })
	if len(all) == 0 {
		return Container{}, false
	}
	return slices.MaxFunc(all, func(a, b Container) int {
		return cmp.Or(a.Started.Compare(b.Started), strings.Compare(a.ID, b.ID))
	}), true
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
	Action  Action `json:"action"`
	Service string `json:"service,omitempty"` // key of the service that it is about
	Target  string `json:"target"`
	What    string `json:"what"`
	Why     string `json:"why"`
}

// Compare gives the changes that lead from what is to the blueprint. No change
// is given where all is as it should be. Carried out half, and compared again,
// they lead to the same end.
func Compare(want Blueprint, have Observed, host Host) []Change {
	c := &comparison{want: want, have: have, host: host}
	for _, s := range want.Services {
		c.pairs = append(c.pairs, c.pair(s))
	}
	c.folders()
	c.images()
	c.networks()
	if !host.SettingsExists {
		c.add(WriteSettings, "", want.SettingsFile(), "write "+want.SettingsFile()+" into the state folder",
			"what the server needs of the household file")
	}
	for _, s := range have.Strays {
		if !s.Running {
			c.add(RemoveOld, "", s.ID, "remove "+s.Name, "a command that was cut off left it behind")
		}
	}
	for _, p := range c.pairs {
		c.create(p)
	}
	c.turnOver()
	c.unit()
	c.unused()
	return c.out
}

// pair is a service as it should be, with what there is of it.
type pair struct {
	want Service
	ours *Container  // made from this very service; nil where there is none
	old  []Container // made from others
}

// settled reports whether nothing is to be stopped or started for the service.
func (p pair) settled() bool {
	return p.ours != nil && p.ours.Running && !p.ours.Waiting && len(p.old) == 0
}

// comparison is one run of Compare.
type comparison struct {
	want  Blueprint
	have  Observed
	host  Host
	pairs []pair
	out   []Change
}

func (c *comparison) add(a Action, service, target, what, why string) {
	c.out = append(c.out, Change{Action: a, Service: service, Target: target, What: what, Why: why})
}

func (c *comparison) pair(s Service) pair {
	p := pair{want: s}
	digest := s.Digest()
	for i, seen := range c.have.Containers {
		switch {
		case seen.Key != s.Key:
		case seen.Digest == digest && p.ours == nil:
			p.ours = &c.have.Containers[i]
		default:
			p.old = append(p.old, seen)
		}
	}
	return p
}

// folders makes the household's own folders.
func (c *comparison) folders() {
	w := c.want
	for _, f := range []struct {
		action     Action
		path, what string
		there      bool
	}{
		{MakeState, w.State, "state folder", c.host.StateExists},
		{MakeScratch, w.Scratch, "scratch folder", c.host.ScratchExists},
		{MakeBackups, w.Backups, "folder of backups", c.host.BackupsExist},
	} {
		if f.path != "" && !f.there {
			c.add(f.action, "", f.path, fmt.Sprintf("make the %s %s for %d:%d, mode 0700", f.what, f.path,
				w.OwnerUID, w.OwnerGID), "it does not exist")
		}
	}
}

// images gives the engine the images that it has not.
func (c *comparison) images() {
	seen := map[string]bool{}
	for _, p := range c.pairs {
		s := p.want
		key := s.Image.Key()
		if seen[key] {
			continue
		}
		seen[key] = true
		switch {
		case s.Image.Reference != "" && !slices.Contains(c.have.Images, key):
			c.add(LoadImage, s.Key, key, "fetch image "+key, "the engine does not have it")
		case s.Image.Archive != "" && !slices.Contains(c.have.Images, key):
			c.add(LoadImage, s.Key, key, "load image "+s.Image.Archive, "the engine does not have it")
		case s.Image.Program == "":
		case !slices.Contains(c.have.Images, key):
			packed := s.Version
			if s.FFmpeg != "" {
				packed += ", with ffmpeg " + s.FFmpeg
			}
			what, why := fmt.Sprintf("pack this program (%s) as image %s and load it", packed, short(key)),
				"the engine does not have it"
			if c.want.Bare {
				what, why = fmt.Sprintf("keep a copy of this program (%s)", packed), "the server is run from it"
			}
			c.add(LoadImage, s.Key, key, what, why)
		case p.ours == nil && !slices.Contains(c.have.Kept, key):
			c.add(LoadImage, s.Key, key, fmt.Sprintf("keep image %s (%s) for this household", short(key), s.Version),
				"the engine has it already, for another one")
		}
	}
}

// networks makes the networks of the household's own, and the volumes of shares.
func (c *comparison) networks() {
	for _, n := range c.ownNetworks() {
		if !slices.Contains(c.have.Networks, n) {
			c.add(MakeNetwork, "", n, "make network "+n, "the household has its own")
		}
	}
	for _, v := range c.want.Volumes {
		if !slices.Contains(c.have.Volumes, v.Name) {
			to := "to read"
			if v.Write {
				to = "to change"
			}
			c.add(MakeVolume, "", v.Name, fmt.Sprintf("make a volume for %s, %s", v.Shown, to),
				"the engine mounts it for shelf "+v.Shelf)
		}
	}
}

func (c *comparison) ownNetworks() []string {
	var out []string
	for _, p := range c.pairs {
		if p.want.OwnNet && !slices.Contains(out, p.want.Network) {
			out = append(out, p.want.Network)
		}
	}
	return out
}

// create makes the container of a service, or puts back what was changed by hand about it.
func (c *comparison) create(p pair) {
	name := p.want.EngineName()
	if p.ours == nil {
		if len(p.want.Shelves()) > 0 && p.want.Role == RoleServer {
			why := "before it is started"
			if len(p.old) > 0 {
				why = "before the old one is given up"
			}
			c.add(Prove, p.want.Key, name, "try a sample of every shelf as the server will", why)
		}
		what := "create container " + name
		if c.want.Bare {
			what = "prepare " + p.want.describe()
		}
		c.add(Create, p.want.Key, name, what, reasons(p.want, p.old))
		return
	}
	if len(p.ours.Drift) > 0 {
		c.add(PutBack, p.want.Key, p.ours.ID, "put "+p.ours.Name+" back as it was made",
			"changed by hand: "+strings.Join(p.ours.Drift, "; "))
	}
}

// turnOver stops what is replaced or no longer wanted, starts what is new, and removes the
// old once the new is well.
func (c *comparison) turnOver() {
	gone := c.unwanted()
	for _, s := range gone {
		if s.Running {
			c.add(StopOld, s.Key, s.ID, "stop "+s.Name, "the household no longer has it")
		}
	}
	// What waits for others is stopped before them.
	for _, p := range slices.Backward(c.pairs) {
		for _, s := range p.old {
			if s.Running {
				c.add(StopOld, s.Key, s.ID, "stop "+s.Name, "the new one takes its place")
			}
		}
		if p.want.Role == RoleServer && p.ours != nil && p.ours.Running && c.want.Store != "" {
			c.add(StopOld, p.want.Key, p.ours.ID, "stop "+p.ours.Name, "its store is replaced")
		}
	}
	for _, p := range c.pairs {
		store := p.want.Role == RoleServer && c.want.Store != ""
		if p.settled() && !store {
			continue
		}
		if p.want.Role == RoleServer {
			c.store(p)
		}
		c.start(p, store)
	}
	for _, p := range c.pairs {
		for _, s := range p.old {
			c.add(RemoveOld, s.Key, s.ID, "remove "+s.Name, "it is replaced")
		}
	}
	for _, s := range gone {
		c.add(RemoveOld, s.Key, s.ID, "remove "+s.Name, "the household no longer has it")
	}
}

// start starts a service and waits until it is well.
func (c *comparison) start(p pair, store bool) {
	name := p.want.EngineName()
	if p.ours == nil || !p.ours.Running || p.ours.Waiting || store {
		why := "it is stopped"
		switch {
		case p.ours == nil:
			why = "it is new"
		case p.ours.Waiting:
			why = "it crashed, and would wait before the next try"
		}
		what := "start " + name
		if c.want.Bare {
			what = "start " + p.want.describe()
		}
		c.add(Start, p.want.Key, name, what, why)
	}
	why := ""
	if len(p.old) > 0 {
		why = "the old one is kept until then"
	}
	c.add(AwaitHealthy, p.want.Key, name, "wait until it is healthy", why)
}

// unwanted gives the containers of services that the household no longer has.
func (c *comparison) unwanted() []Container {
	return slices.DeleteFunc(slices.Clone(c.have.Containers), func(s Container) bool {
		_, wanted := c.want.Service(s.Key)
		return wanted
	})
}

// store gives the changes that another program needs before it meets the store, and
// those that put another store in its place. The server does not run meanwhile.
func (c *comparison) store(p pair) {
	want := c.want
	other := slices.ContainsFunc(p.old, func(s Container) bool { return s.Service.Image != p.want.Image })
	met := p.ours != nil && p.ours.Running // it has the store already
	if want.Backup != "" && c.host.StoreExists && !c.host.BackupExists && (other && !met || want.Store != "") {
		why := "another program is about to use the store"
		if want.Store != "" {
			why = "the store is about to be replaced; nothing of it is to be lost"
		}
		c.add(TakeBackup, p.want.Key, want.Backup, "back up the store and the settings to "+want.Backup, why)
	}
	if want.Store != "" {
		c.add(PutStore, p.want.Key, want.Store, "put the store of "+want.Store+" in place", "asked for")
	}
}

// unit has systemd start the server with the machine, or no longer.
func (c *comparison) unit() {
	switch u := c.want.Unit; {
	case u != nil && (c.host.Unit != u.Text || !c.host.UnitEnabled):
		why := "the household file has it start with the machine"
		if c.host.Unit != "" {
			why = "it is to start what runs now"
		}
		c.add(WriteUnit, ServerKey, u.Path(), "write "+u.Path()+", and have systemd start it", why)
	case u == nil && c.host.Unit != "":
		name := UnitName(c.want.Household)
		c.add(RemoveUnit, ServerKey, name, "remove "+name+" from systemd",
			"it is not to start with the machine, or the engine sees to it")
	}
}

// unused removes what nobody uses any more.
func (c *comparison) unused() {
	own := c.ownNetworks()
	for _, n := range c.have.Networks {
		if !slices.Contains(own, n) {
			c.add(RemoveNetwork, "", n, "remove network "+n, "the household no longer uses it")
		}
	}
	for _, n := range c.have.Volumes {
		if !slices.ContainsFunc(c.want.Volumes, func(v Volume) bool { return v.Name == n }) {
			c.add(RemoveVolume, "", n, "remove volume "+n+", not what is on the share",
				"the household no longer uses it")
		}
	}
	c.leftImages()
}

// leftImages removes the programs that nobody needs any more: of those that the household
// keeps all but what it wants kept, and those that no household keeps or uses. It is worked
// out anew each time, so what a deployment that was cut off brought goes, too.
func (c *comparison) leftImages() {
	wanted := func(i string) bool {
		return slices.ContainsFunc(c.want.Services, func(s Service) bool { return s.Image.Program == i })
	}
	if c.want.KeptImages != nil {
		for _, i := range c.have.Kept {
			if !wanted(i) && !slices.Contains(c.want.KeptImages, i) {
				c.add(RemoveImage, "", i, "remove image "+short(i),
					"it is neither what runs nor what can be gone back to")
			}
		}
	}
	for _, i := range c.have.Unkept {
		if !wanted(i) {
			c.add(RemoveImage, "", i, "remove image "+short(i),
				"a command that was cut off left it behind; no household uses it")
		}
	}
}

// Leaving says what is to be removed when a household retires, beside what the engine has.
type Leaving struct {
	Household string
	Images    []string // digests of programs
	Unit      bool     // systemd has a unit
	State     string   // the state folder, where it is to be erased
	Scratch   string   // the scratch folder, where it is to be removed
}

// Retire gives the changes that remove everything of the household from the
// engine, and those folders of its own that are named, which may be empty. Media
// are never named here.
func Retire(l Leaving, have Observed) []Change {
	c := &comparison{}
	const why = "the household retires"
	for _, s := range slices.Concat(have.Containers, have.Strays) {
		if s.Running {
			c.add(StopOld, s.Key, s.ID, "stop "+s.Name, why)
		}
		c.add(RemoveOld, s.Key, s.ID, "remove "+s.Name, why)
	}
	for _, n := range have.Networks {
		c.add(RemoveNetwork, "", n, "remove network "+n, why)
	}
	for _, n := range have.Volumes {
		c.add(RemoveVolume, "", n, "remove volume "+n+", not what is on the share", why)
	}
	if name := UnitName(l.Household); l.Unit {
		c.add(RemoveUnit, ServerKey, name, "remove "+name+" from systemd", why)
	}
	for _, i := range l.Images {
		c.add(RemoveImage, "", i, "remove image "+short(i), "unless another household uses or keeps it")
	}
	if l.Scratch != "" {
		c.add(EraseScratch, "", l.Scratch, "remove the scratch folder "+l.Scratch+", if nothing is in it",
			"asked with --erase")
	}
	if l.State != "" {
		c.add(EraseState, "", l.State, "erase the state folder "+l.State+" (members, plays, positions)",
			"asked with --erase")
	}
	return c.out
}
