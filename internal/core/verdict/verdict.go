// Package verdict judges whether a household will work on a machine: household
// file and facts in, lines out. Each line is ok, a warning, or blocked, and the
// last two say what to do.
//
// Nothing is asked of the machine here: all that counts is in the facts, which can be written down
// and read back. So machines that nobody has at hand are judged in tests.
//
// A line is blocked only where the deployment would fail, or would do harm. What works, but not as
// one would wish, is a warning.
package verdict

import (
	"fmt"
	"slices"
	"strings"

	"cozyshelf/internal/core/capacity"
	"cozyshelf/internal/core/delivery"
	"cozyshelf/internal/core/encoders"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"

	"github.com/dustin/go-humanize"
)

// Status is the outcome of one line.
type Status string

// The outcomes.
const (
	OK      Status = "ok"
	Warning Status = "warning"
	Blocked Status = "blocked"
)

// Line is one judgement. Details are further lines below it.
type Line struct {
	What    string   `json:"what"`
	Status  Status   `json:"status"`
	Says    string   `json:"says"`
	Do      string   `json:"do,omitempty"`
	Details []string `json:"details,omitempty"`
	// Commands are those to copy that do what Do says.
	Commands []string `json:"commands,omitempty"`
	// About is the folder that is judged, as the household file names it; empty where the
	// line is about something else.
	About string `json:"about,omitempty"`
}

// Worst is the worst status of the lines.
func Worst(lines []Line) Status {
	worst := OK
	for _, l := range lines {
		if l.Status == Blocked || l.Status == Warning && worst == OK {
			worst = l.Status
		}
	}
	return worst
}

// Least amounts, in bytes.
const (
	leastStateFree = 200 << 20
	fewStateFree   = 2 << 30

	leastEngineFree = 200 << 20
)

// Judge gives every line, in the order in which things are needed.
func Judge(h *household.Household, f facts.Facts) []Line {
	j := &judge{h: h, f: f}
	j.add("household file", OK, fmt.Sprintf("%q, %s", h.Household.Name, plural(len(h.Shelves), "shelf", "shelves")), "")
	if pin := h.Server.Version; pin != "" && f.Program != "" && pin != f.Program {
		j.add("program", Blocked, fmt.Sprintf("[server] version pins %s, and this is %s", pin, f.Program),
			"run the program "+pin+"; or cozyshelf upgrade, which changes the pin and deploys this one")
	}
	j.engine()
	j.others()
	j.left()
	j.machine()
	j.ports()
	j.clients()
	j.account()
	j.about(f.State.Path, j.state)
	if f.Scratch != nil {
		j.about(f.Scratch.Path, j.scratch)
	}
	if f.Backups != nil {
		j.about(f.Backups.Path, func() { j.writable("backup folder", *f.Backups, false) })
	}
	if f.Certificate != nil {
		j.about(f.Certificate.Path, func() { j.certificate(*f.Certificate) })
	}
	j.notices()
	j.shelves()
	j.ffmpeg()
	j.converting()
	return j.lines
}

type judge struct {
	h     *household.Household
	f     facts.Facts
	lines []Line
}

func (j *judge) add(what string, s Status, says, do string, details ...string) {
	j.lines = append(j.lines, Line{What: what, Status: s, Says: says, Do: do, Details: details})
}

// about has lines that are added meanwhile be about a folder.
func (j *judge) about(folder string, judge func()) {
	from := len(j.lines)
	judge()
	for i := range j.lines[from:] {
		j.lines[from+i].About = folder
	}
}

func bytes(n int64) string { return humanize.IBytes(uint64(max(0, n))) }

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(int64(n)) + " " + many
}

func (j *judge) engine() {
	e := j.f.Engine
	switch {
	case !e.Answers:
		fix := e.Fix
		if fix == "" {
			fix = "start the engine, or write engine = \"process\" to do without one"
		}
		j.add("engine", Blocked, fmt.Sprintf("%s does not answer: %s", e.Kind, e.Error), fix)
		return
	case !e.Can.Isolates:
		j.add("engine", OK, e.Kind+", embedded ("+e.Why+")", "")
	default:
		j.add("engine", OK, fmt.Sprintf("%s %s, API %s (%s)", e.Kind, e.Version, e.API, e.Why), "")
	}
	j.engineDisk()
	if n := j.h.Server.Network; e.Can.Networks && n != "own" && n != "host" && len(e.Networks) > 0 &&
		!slices.Contains(e.Networks, n) {
		j.add("network", Blocked, fmt.Sprintf("%s has no network %q", e.Kind, n),
			"write network = \"own\", or one of those that it has: "+strings.Join(e.Networks, ", "))
	}
	if e.Arch != "" && e.Arch != j.f.Arch {
		j.add("architecture", Blocked, fmt.Sprintf("this program is for %s, the engine runs %s", j.f.Arch, e.Arch),
			"use the program built for "+e.Arch)
	} else {
		says := fmt.Sprintf("%s/%s, %s", j.f.OS, j.f.Arch, plural(j.f.CPUs, "processor core", "processor cores"))
		if j.f.WordBits == 32 {
			says += ", 32 bits"
		}
		if j.f.Processor != "" {
			says += ", " + j.f.Processor
		}
		j.add("architecture", OK, says, "")
	}
	if e.Elsewhere {
		j.add("place", Warning, "the engine is on another machine ("+e.Endpoint+
			"): the folders below were looked at here, not there",
			"run check on that machine; cozyshelf access --prove tries them from inside")
	}
	if e.Rootless {
		j.shift()
	}
	if e.Confined {
		j.add("selinux", OK, "enforcing: containers may use only what is labelled for them", "")
	}
}

// oldest is the oldest API of an engine that is spoken here.
const oldestMajor, oldestMinor = 1, 40

// others judges that the household is deployed on another engine already: two servers
// must not work on one state folder.
func (j *judge) others() {
	for _, o := range j.f.Others {
		how := "stopped"
		if o.Running {
			how = "running"
		}
		j.add("other engine", Blocked, fmt.Sprintf("the household is deployed on %s already (%s, %s), and one "+
			"state folder is for one server", o.Kind, o.Container, how),
			fmt.Sprintf("write engine = %q under [server], and cozyshelf retire, which keeps the state; then write "+
				"engine = %q and deploy", o.Kind, j.f.Engine.Kind))
	}
}

// left says what commands that were cut off left behind.
func (j *judge) left() {
	if n := len(j.f.Left); n > 0 {
		j.add("leftovers", Warning, fmt.Sprintf("%s that a command left behind when it was cut off",
			plural(n, "thing", "things")), "cozyshelf deploy removes them", j.f.Left...)
	}
}

// engineDisk judges the engine's version and the disk that it keeps things on.
func (j *judge) engineDisk() {
	e := j.f.Engine
	var major, minor int
	if n, _ := fmt.Sscanf(e.API, "%d.%d", &major, &minor); n == 2 &&
		(major < oldestMajor || major == oldestMajor && minor < oldestMinor) {
		j.add("engine version", Blocked, fmt.Sprintf("%s %s speaks API %s, and %d.%d is needed", e.Kind, e.Version,
			e.API, oldestMajor, oldestMinor),
			"bring the engine up to date (19.03 of 2019 will do), or write engine = \"process\"")
	}
	if e.Storage == "" {
		return
	}
	says := fmt.Sprintf("%s in %s", e.Storage, e.Root)
	if e.RootFree > 0 {
		says += fmt.Sprintf(", %s free", bytes(e.RootFree))
	}
	switch {
	case e.RootFree > 0 && e.RootFree < leastEngineFree:
		j.add("engine's disk", Blocked, says,
			"free some space there: the image alone takes 26 MiB, and the engine needs room to unpack it")
	case e.Storage == "vfs":
		j.add("engine's disk", Warning, says+": this driver copies every layer whole",
			"see whether the engine can use overlay2")
	default:
		j.add("engine's disk", OK, says, "")
	}
}

// shift judges ids that the engine shifts by a user namespace.
func (j *judge) shift() {
	e, a := j.f.Engine, j.f.Account
	if !e.Can.HostNetwork && j.h.Server.Network == "host" {
		j.add("network", Blocked, "an engine with user namespaces shares the host's network with no container",
			"write network = \"own\" under [server]")
	}
	if len(e.UIDs) == 0 {
		j.add("ids", Warning, "the engine shifts ids (user namespace), and how is not known here: the access "+
			"computed below is that of the unshifted account", "cozyshelf access --prove tries it from inside")
		return
	}
	if !a.Known {
		return
	}
	uid, ok := permit.OnHost(e.UIDs, a.UID)
	gid, gok := permit.OnHost(e.GIDs, a.GID)
	if !ok || !gok {
		j.add("ids", Blocked, fmt.Sprintf("the engine's user namespace has no %d:%d: no such container can start",
			a.UID, a.GID), "choose a run_as whose numbers it has (/etc/subuid and /etc/subgid say which)")
		return
	}
	j.add("ids", OK, fmt.Sprintf("the engine shifts them: %d:%d inside is %d:%d on this machine, and so it is "+
		"judged below", a.UID, a.GID, uid, gid), "")
}

func (j *judge) machine() {
	scratch := int64(0)
	note := ""
	if j.h.Storage.Scratch == "memory" && j.f.Engine.Can.Isolates {
		scratch = int64(j.h.Storage.ScratchLimit)
		note = ", scratch in memory counted"
	}
	want := int64(j.h.Server.Memory) + scratch
	free := j.f.MemoryAvailable
	if j.f.PortsOurs() {
		// What our own server holds now will be free for it again.
		free = min(j.f.Memory, free+want)
	}
	says := fmt.Sprintf("%s of %s available; the server may take %s%s", bytes(j.f.MemoryAvailable), bytes(j.f.Memory),
		bytes(want), note)
	switch {
	case j.f.Memory > 0 && want > j.f.Memory:
		j.add("memory", Blocked, says, "lower memory or scratch_limit, or put scratch into a folder")
	case free > 0 && scratch > free/2:
		j.add("memory", Blocked, fmt.Sprintf("scratch in memory may take %s, more than half of the %s that are free",
			bytes(scratch), bytes(free)),
			fmt.Sprintf("write scratch_limit = %q or less, or put scratch into a folder",
				household.Size(free/2>>20<<20).String()),
			"what waits there counts against the container's memory limit, which is memory and scratch_limit "+
				"together: "+bytes(want))
	case want > free:
		j.add("memory", Warning, says, "lower memory or scratch_limit, or free some memory")
	default:
		j.add("memory", OK, says, "")
	}
	if g := j.f.Cgroup; j.f.Engine.NoMemory && j.f.Engine.Rootless && g.Known && g.Memory {
		j.add("memory limit", Warning, "the engine runs without root and was given no control group, so the "+
			"server's limits are not held",
			"have systemd run it for the account (systemctl --user), with control groups of version 2")
	} else if j.f.Engine.Can.Limits && (j.f.Engine.NoMemory || g.Known && !g.Memory) {
		j.add("memory limit", Warning, fmt.Sprintf("this kernel does not limit memory (control groups %d without "+
			"it), so the server's limit is not held", g.Version),
			"on many small machines: add cgroup_enable=memory cgroup_memory=1 to the kernel's command line")
	}
	if j.f.Clock.Known && j.f.Clock.Now.Year() < 2025 {
		j.add("clock", Warning, "it shows "+j.f.Clock.Now.Format("2006-01-02")+", which cannot be",
			"set it, and let something keep it right: sign-ins and figures follow it")
	}
	if p := j.h.Server.Processors; p > 0 {
		switch {
		case p > float64(j.f.CPUs) && j.f.CPUs > 0:
			j.add("processors", Blocked, fmt.Sprintf("the server may keep %v cores busy, and there are %d", p,
				j.f.CPUs), fmt.Sprintf("write processors = %d or less under [server], or leave it out", j.f.CPUs))
		case !j.f.Engine.Can.Limits:
			j.add("processors", OK, fmt.Sprintf("%v of %d cores; without a container this is a habit of the "+
				"server's, no bound", p, j.f.CPUs), "")
		default:
			j.add("processors", OK, fmt.Sprintf("%v of %d cores", p, j.f.CPUs), "")
		}
	}
	if s := j.h.Server; len(s.DNS)+len(s.Hosts) > 0 && (!j.f.Engine.Can.Networks || s.Network == "host") {
		j.add("names", Warning, "dns and hosts are for a container with a network of its own; here the machine's "+
			"own settings count", "take them out, or write network = \"own\" with an engine that runs containers")
	}
	j.boot()
	j.devices()
	j.firewall()
	if zone := j.h.Household.Timezone; j.f.Timezone != "" && zone != j.f.Timezone {
		j.add("time zone", OK, fmt.Sprintf("%s (this machine: %s)", zone, j.f.Timezone), "")
	} else {
		j.add("time zone", OK, zone, "")
	}
}

// boot judges whether the server comes back with the machine.
func (j *judge) boot() {
	if j.h.Server.Start != household.StartBoot || j.f.Engine.Can.Boots || !j.f.Engine.Answers {
		return
	}
	if j.f.Units == "" {
		j.add("start", Warning, fmt.Sprintf("%s does not start the server with the machine, and there is no "+
			"systemd here that would", j.f.Engine.Kind),
			"have cozyshelf start run at boot, or write start = \"crash\" under [server]")
		return
	}
	j.add("start", OK, "with the machine, by a unit of systemd in "+j.f.Units, "")
}

// ffmpeg judges what the work of quiet hours and conversions need.
func (j *judge) ffmpeg() {
	var what []string
	if len(j.h.Quiet.Work) > 0 {
		what = append(what, "quiet work")
	}
	if j.h.Convert.When == household.ConvertNeeded {
		what = append(what, "converting")
	}
	for _, w := range what {
		section := map[string]string{"quiet work": "[quiet]", "converting": "[convert]"}[w]
		switch f := j.f.FFmpeg; {
		case f == nil:
		case f.Version == "":
			j.add(w, Warning, "what "+section+" asks for needs ffmpeg and ffprobe, and they are not to be had here: "+
				f.Why, "install ffmpeg on this machine; until then that is left undone")
		case !j.f.Engine.Can.Isolates:
			j.add(w, OK, "by this machine's ffmpeg "+f.Version, "")
		default:
			j.add(w, OK, fmt.Sprintf("by this machine's ffmpeg %s, which goes into the image: %s more", f.Version,
				bytes(f.Size)), "")
		}
	}
}

// serverItself is the memory that the server takes beside what converts, in bytes.
const serverItself = 256 << 20

// converting judges what to expect of conversions, before they are measured, and whether there is room
// for them.
func (j *judge) converting() {
	c := j.h.Convert
	if c.When != household.ConvertNeeded || j.f.FFmpeg == nil || j.f.FFmpeg.Version == "" || j.f.CPUs == 0 {
		return
	}
	processors := float64(j.f.CPUs)
	if p := j.h.Server.Processors; p > 0 {
		processors = min(processors, p)
	}
	by := "in software"
	weights := capacity.Expected(processors)
	if strings.HasPrefix(c.Device, "/") {
		by, weights = "by "+c.Device, capacity.ExpectedHardware(int(processors))
	}
	atOnce := int(c.AtOnce)
	if atOnce <= 0 {
		atOnce = max(2, int(processors)/2)
	}
	j.ways()
	task := capacity.Tasks[0]
	j.add("capacity", OK, fmt.Sprintf("about %d films from %s at once are to be expected %s; cozyshelf capacity "+
		"measures it once the server runs", weights.Expect(task), task.Name, by), "")
	lines := 1080
	if len(c.Ladder) > 0 {
		lines = slices.Max(c.Ladder)
	}
	each := capacity.StreamBytes(delivery.BitrateFor(lines*16/9, lines, 25))
	if want := int64(atOnce) * each * 10 / 9; want > int64(j.h.Storage.ScratchLimit) {
		j.add("room to convert", Warning, fmt.Sprintf("%d films of %d lines at once want %s of scratch, and "+
			"scratch_limit is %s: what was made is thrown away and made again", atOnce, lines, bytes(want),
			bytes(int64(j.h.Storage.ScratchLimit))),
			fmt.Sprintf("write scratch_limit = \"%d MiB\" under [storage], a smaller at_once, or a smaller ladder",
				want>>20+1))
	}
	if want := int64(serverItself) + int64(atOnce)*capacity.StreamMemory(lines); j.f.Engine.Can.Limits &&
		want > int64(j.h.Server.Memory) {
		j.add("memory to convert", Warning, fmt.Sprintf("%d films of %d lines at once may take %s of memory, and the "+
			"server has %s", atOnce, lines, bytes(want), bytes(int64(j.h.Server.Memory))),
			fmt.Sprintf("write memory = \"%d MiB\" under [server], a smaller at_once, or a smaller ladder", want>>20+1))
	}
}

// ways judges how pictures could be made anew, where that was tried.
func (j *judge) ways() {
	var work []string
	for _, w := range j.f.FFmpeg.Ways {
		if w.Why == "" {
			work = append(work, w.Name)
			continue
		}
		fix := "see that " + j.f.FFmpeg.Version + " is an ffmpeg with libx264"
		if w.Hardware {
			fix = "see that the device's driver is installed, and that the account may use it; until then others convert"
		}
		j.add("way to convert", Warning, w.Name+" was tried and does not work: "+w.Why, fix)
	}
	if len(work) > 0 {
		j.add("way to convert", OK, "tried, and works: "+strings.Join(work, ", "), "")
	}
}

// render gives the first device that makes pictures, else the first.
func (j *judge) render() string {
	for _, d := range j.f.Graphics {
		if encoders.KindOf(d.Path) != "" {
			return d.Path
		}
	}
	return j.f.Graphics[0].Path
}

// devices judges the devices that are to be mapped.
func (j *judge) devices() {
	if len(j.h.Mapped()) == 0 && len(j.f.Graphics) > 0 {
		var names []string
		for _, d := range j.f.Graphics {
			driver := ""
			if d.Driver != "" {
				driver = ", driver " + d.Driver
			}
			names = append(names, fmt.Sprintf("%s (group %s%s)", d.Path, d.Group, driver))
		}
		j.add("graphics", OK, strings.Join(names, ", ")+"; not used: to convert by it, write device = \""+
			j.render()+"\" under [convert]", "")
	}
	for _, want := range j.h.Mapped() {
		var found []string
		for _, d := range j.f.Devices {
			if permit.Below(d.Path, want) {
				group := d.Group
				if group == "" {
					group = fmt.Sprint(d.GID)
				}
				says := fmt.Sprintf("%s, group %s", d.Path, group)
				if d.Driver != "" {
					says += ", driver " + d.Driver
				}
				if d.GID == 0 || d.Mode&0o060 != 0o060 {
					says += fmt.Sprintf(", mode %04o: no group that the server could join may use it", d.Mode)
				}
				found = append(found, says)
			}
		}
		switch {
		case len(found) == 0:
			j.add("device", Blocked, want+" is not there", "load its driver, or take it out of devices")
		case !j.f.Engine.Can.Isolates:
			j.add("device", OK, want+": a process sees the host's", "", found...)
		default:
			j.add("device", OK, want+" is mapped, with its groups", "", found...)
		}
	}
}

// firewall judges what the packet filter says of the ports.
func (j *judge) firewall() {
	j.filtered(j.f.Firewall, j.h.Server.Port)
	if f := j.f.HTTPSFirewall; f != nil {
		j.filtered(*f, j.h.Remote.Certificate.Port)
	}
}

// filtered judges what the packet filter says of a port. What an engine publishes is
// forwarded, and does not pass the rules for what comes in.
func (j *judge) filtered(f facts.Firewall, port int) {
	direct := !j.f.Engine.Can.Networks || j.h.Server.Network == "host"
	local := j.h.Server.Bind == "localhost"
	if !f.Known || !f.Active || local {
		return
	}
	switch {
	case f.Blocks && direct:
		allow := fmt.Sprintf("nft insert rule inet filter input tcp dport %d accept", port)
		if f.Source == "ufw" {
			allow = fmt.Sprintf("ufw allow %d/tcp", port)
		}
		j.add("firewall", Warning, fmt.Sprintf("%s keeps port %d out for others: %s", f.Source, port,
			f.Rule), "let it in, for your own network at least; this program never changes such rules:")
		j.lines[len(j.lines)-1].Commands = []string{allow}
	case f.Blocks:
		j.add("firewall", OK, fmt.Sprintf("%s keeps what comes in out, but what %s publishes is forwarded past "+
			"those rules", f.Source, j.f.Engine.Kind), "")
	default:
		j.add("firewall", OK, fmt.Sprintf("%s lets port %d in, as far as its rules can be read", f.Source, port), "")
	}
}

// ports judges every port that the household's server listens on.
func (j *judge) ports() {
	for _, p := range j.f.Ports {
		j.port(p)
	}
}

func (j *judge) port(p facts.Port) {
	section := "[server]"
	if p.Purpose == household.ForHTTPS {
		section = "[remote.certificate]"
	}
	switch {
	case p.Error != "":
		j.add("port", Blocked, fmt.Sprintf("%s cannot be listened on: %s", p.Address, p.Error),
			"choose another port under "+section+", or another bind address under [server]")
	case p.Ours:
		j.add("port", OK, p.Address+", held by this household's own server", "")
	case p.Neighbour != nil:
		n := p.Neighbour
		other := "choose another port under " + section
		if p.Next > 0 {
			other = fmt.Sprintf("write port = %d under %s", p.Next, section)
		}
		j.add("port", Blocked, fmt.Sprintf("%s is held by another household of yours, %s, on %s", p.Address, n.Name,
			n.Engine), other+"; both can run side by side",
			"its state folder is "+n.State+"; if that is this household, write that path again under [storage]")
	case !p.Free:
		holder := p.Holder
		if holder == "" {
			holder = "another program"
		}
		do := "stop it, or choose another port under " + section
		if p.Next > 0 {
			do = fmt.Sprintf("stop it, or write port = %d under %s", p.Next, section)
		}
		var details []string
		if name, _, _ := strings.Cut(holder, " "); slices.Contains(facts.PortHolders, name) {
			details = append(details, "a container's port is held so; if it is this household's own, deployed with "+
				"another state folder, write that path again and cozyshelf retire first")
		}
		j.add("port", Blocked, fmt.Sprintf("%s is held by %s", p.Address, holder), do, details...)
	default:
		j.add("port", OK, p.Address+" is free", "")
	}
}

// clients says whether the server will see who connects.
func (j *judge) clients() {
	if !j.f.Engine.Can.Networks || j.h.Server.Network == "host" {
		return
	}
	bind, _ := j.h.Server.BindAddr() // checked when the file was read
	switch {
	case j.h.HidesClients(j.f.Engine.HidesClients, j.f.Engine.IPv6):
		j.add("clients", Warning, "the engine forwards connections by itself, so nobody can tell who is at home: "+
			"everybody counts as away", "write network = \"host\" under [server]; or let people come by HTTPS, "+
			"with members who may use it from away")
	case bind.IsUnspecified() && j.h.Server.Network == "own" && j.f.Engine.IPv6:
		j.add("clients", OK, "seen by their own addresses, IPv4 and IPv6", "")
	case bind.IsUnspecified():
		j.add("clients", OK, "seen by their own IPv4 addresses; IPv6 is not published, since it would hide them "+
			"(network = \"host\" gives both)", "")
	}
}

func (j *judge) account() {
	a := j.f.Account
	if !a.Known {
		if !a.Missing {
			j.add("run-as account", Blocked, fmt.Sprintf("%q cannot be used: %s", a.Asked, a.Why),
				"correct run_as and groups under [server]")
			return
		}
		j.proposal(a)
		return
	}
	who := fmt.Sprintf("%d:%d", a.UID, a.GID)
	if a.Name != "" {
		who = fmt.Sprintf("%s, %s", a.Name, who)
	}
	if len(a.Groups) > 1 {
		who += ", groups " + strings.Trim(strings.ReplaceAll(fmt.Sprint(a.Groups), " ", ","), "[]")
	}
	switch {
	case !j.f.Engine.Can.Becomes && j.f.CallerUID != 0 && int(a.UID) != j.f.CallerUID:
		j.add("run-as account", Blocked, fmt.Sprintf("%s is not you (uid %d), and the process engine cannot become it",
			who, j.f.CallerUID), fmt.Sprintf("run as root, or write run_as = \"%d:…\" with your own numbers",
			j.f.CallerUID))
	case a.UID == 0 && j.owner().UID != 0:
		j.add("run-as account", OK, fmt.Sprintf("%s inside, which is %d on this machine", who, j.owner().UID), "")
	case a.UID == 0:
		j.add("run-as account", Warning, who+" is root",
			"use an account of its own: leave run_as out, and check proposes one",
			"the container has no capabilities, so root in it passes over no permission: it reads what its owner, "+
				"group and ACLs let it, like anyone else",
			"but it owns every file of root's, and could change them if it broke out")
	default:
		j.add("run-as account", OK, who, "")
	}
}

// proposal says how to come by an account that there is not yet.
func (j *judge) proposal(a facts.Account) {
	do := "write run_as = \"uid:gid\" under [server]"
	var details, commands []string
	switch p := a.Proposal; {
	case !j.f.Engine.Can.Becomes && j.f.CallerUID != 0:
		do = fmt.Sprintf("write run_as = \"%d:…\" with your own numbers, or run as root", j.f.CallerUID)
	case p != nil && len(p.Commands) > 0:
		do, commands = "make it: cozyshelf check --mend, or by hand:", p.Commands
		details = append(details, "it will have no login and no home"+
			map[bool]string{true: ", and be in no group but its own: no shelf needs one",
				false: ", and be in the groups that the shelves need: " +
					strings.Trim(fmt.Sprint(p.Groups), "[]")}[len(p.Groups) == 0])
		for _, g := range p.Nameless {
			details = append(details, fmt.Sprintf("group %d has no name on this machine, so no account can be "+
				"added to it: "+
				"check --mend writes it into groups under [server], for the server alone", g))
		}
	case p != nil:
		do = "make it with this machine's own tools, with no login and no home; or write run_as = \"1500:1500\", " +
			"numbers that nobody has"
	}
	j.add("run-as account", Blocked, fmt.Sprintf("%q is not an account of this machine", a.Asked), do, details...)
	j.lines[len(j.lines)-1].Commands = commands
}

// owner is the account as this machine numbers it.
func (j *judge) owner() permit.Identity { return j.f.Engine.Identity(j.f.Account) }

// place judges that a folder is there or can be made, and has room.
func (j *judge) place(what string, f facts.Folder, least, few int64) (Line, bool) {
	l := Line{What: what, Status: OK}
	switch {
	case f.Silent:
		l.Status, l.Says, l.Do = Blocked, f.Path+" does not answer",
			"see to the disk or the network behind it; an engine that is given it would hang too (umount -l takes "+
				"it away)"
	case f.Error != "":
		l.Status, l.Says, l.Do = Blocked, fmt.Sprintf("%s cannot be looked at: %s", f.Path, f.Error),
			"run check as an account that may, such as root"
	case f.Exists && !f.IsFolder:
		l.Status, l.Says, l.Do = Blocked, f.Path+" is a file, not a folder", "name a folder"
	case f.ReadOnly && least > 0:
		l.Status, l.Says, l.Do = Blocked, f.Path+" is on a file system that is mounted read-only",
			"choose another place, or mount it writable"
	case f.Free < least:
		l.Status, l.Says, l.Do = Blocked,
			fmt.Sprintf("%s has %s free, and at least %s is needed", f.Path, bytes(f.Free), bytes(least)),
			"free some space, or choose another place"
	case least > 0 && f.InodesAll > 0 && f.Inodes < 1000:
		l.Status, l.Says, l.Do = Blocked, fmt.Sprintf("%s has room for %d more files only (inodes)", f.Path, f.Inodes),
			"remove some files, or choose another place"
	case f.Free < few:
		l.Status, l.Says, l.Do = Warning, fmt.Sprintf("%s has only %s free", f.Path, bytes(f.Free)),
			"free some space soon"
	default:
		return l, true
	}
	return l, false
}

func (j *judge) state() {
	if s := j.f.State; s.NoLocks != "" {
		j.add("state folder", Blocked, fmt.Sprintf("%s is on a file system (%s) that does not lock files: %s", s.Path,
			s.FSType, s.NoLocks), "put it on a disk of this machine: a database needs locks that work; or mount "+
			"the share with its lock service")
		return
	}
	j.writable("state folder", j.f.State, true)
}

func (j *judge) scratch() {
	if j.f.Scratch != nil {
		j.writable("scratch folder", *j.f.Scratch, true)
		last := &j.lines[len(j.lines)-1]
		if limit := int64(j.h.Storage.ScratchLimit); last.Status != Blocked && limit > j.f.Scratch.Free {
			last.Status, last.Says = Blocked,
				fmt.Sprintf("%s has %s free, and scratch may take %s", j.f.Scratch.Path, bytes(j.f.Scratch.Free),
					bytes(limit))
			last.Do = "lower scratch_limit, free some space, or choose another place"
		}
	}
}

// writable judges a folder that the account writes to; whole is that all in it must be its own
// to use, too.
func (j *judge) writable(what string, f facts.Folder, whole bool) {
	l, well := j.place(what, f, leastStateFree, fewStateFree)
	switch {
	case !well:
	case f.Exposed != "":
		l.Status, l.Says = Blocked, fmt.Sprintf("%s: others may write to %s, so they could put another folder in "+
			"its place", f.Path, f.Exposed)
		l.Do = "choose another place, below folders of root's, or close this one:"
		l.Commands = []string{"chown root: " + permit.Quote(f.Exposed), "chmod go-w " + permit.Quote(f.Exposed)}
	case !f.Exists && !f.Creatable:
		l.Status, l.Says = Blocked, fmt.Sprintf("%s does not exist, and you may not make it in %s", f.Path, f.Parent)
		l.Do, l.Commands = "make it:", j.makeIt(f.Path)
	case !f.Exists && j.f.CallerUID != 0 && int(j.owner().UID) != j.f.CallerUID:
		l.Status, l.Says = Blocked, fmt.Sprintf("%s does not exist, and you (uid %d) cannot give it to the run-as "+
			"account", f.Path, j.f.CallerUID)
		l.Do, l.Commands = "make it as root:", j.makeIt(f.Path)
	case !f.Exists:
		l.Says = fmt.Sprintf("%s will be made; %s free", f.Path, bytes(f.Free))
	case f.Access != nil && j.f.Account.Known && (f.Access.WritableFolders < 1 || whole && f.Access.Failing > 0):
		l.Status, l.Says = Blocked, f.Path+" cannot be used by the run-as account"
		l.Do = "give it the folder:"
		l.Commands = []string{fmt.Sprintf("chown -R %d:%d %s", j.owner().UID, j.owner().Groups[0],
			permit.Quote(f.Path))}
		for _, x := range f.Access.First {
			l.Details = append(l.Details, x.Path+": "+x.Cause)
		}
	default:
		l.Says = fmt.Sprintf("%s, %s free", f.Path, bytes(f.Free))
	}
	j.lines = append(j.lines, l)
}

// certificate judges the folder of a certificate that somebody else renews.
func (j *judge) certificate(f facts.Folder) {
	l, well := j.place("certificate", f, 0, 0)
	switch missing := j.f.CertificateMissing; {
	case !well:
	case !f.Exists:
		l.Status, l.Says = Blocked, f.Path+" does not exist"
		l.Do = "write the folder in which the certificate lies under [remote.certificate]"
	case len(missing) > 0:
		l.Status, l.Says = Blocked, fmt.Sprintf("%s is not in %s", strings.Join(missing, " and "), f.Path)
		l.Do = "write the names of the files, as they lie in the folder, under [remote.certificate]"
	case f.Access != nil && j.f.Account.Known && f.Access.Failing > 0:
		l.Status, l.Says = Blocked, f.Path+": the run-as account may not read all of it"
		l.Do = "put the files into a folder of their own, and let the account read them:"
		l.Commands = []string{fmt.Sprintf("setfacl -R -m u:%d:rX -m d:u:%d:rX %s", j.owner().UID, j.owner().UID,
			permit.Quote(f.Path))}
		for _, x := range f.Access.First {
			l.Details = append(l.Details, x.Path+": "+x.Cause)
		}
	default:
		l.Says = f.Path + ", read and watched by the server"
	}
	j.lines = append(j.lines, l)
}

// leastSecret is how many bytes a key has at least that messages are signed with.
const leastSecret = 24

// notices judges what is needed to tell receivers of what happens.
func (j *judge) notices() {
	for _, n := range j.f.Notices {
		i := slices.IndexFunc(j.h.Notices, func(r household.Notice) bool { return r.Name == n.Name })
		if i < 0 || n.File == "" {
			continue
		}
		r := j.h.Notices[i]
		what := "notices to " + n.Name
		switch {
		case n.Fault != "" && r.To == household.ToProgram:
			j.add(what, Warning, n.File+" cannot be run: "+n.Fault,
				"make it a program of root that nobody else may write, in folders that nobody else may write to")
		case n.Fault != "":
			j.add(what, Blocked, n.File+" cannot be used: "+n.Fault,
				"make it a file of root with mode 0600, with the secret and nothing else in it")
		case r.To == household.ToWebhook && n.Secret < leastSecret:
			j.add(what, Blocked, fmt.Sprintf("the key in %s has %d bytes, fewer than %d", n.File, n.Secret, leastSecret),
				"make one: openssl rand -base64 24 > "+permit.Quote(n.File))
		default:
			j.add(what, OK, "by "+r.To+", with "+n.File, "")
		}
	}
}

// makeIt gives the commands that make a folder of the account's own.
func (j *judge) makeIt(path string) []string {
	return []string{"mkdir -p " + permit.Quote(path),
		fmt.Sprintf("chown %d:%d %s", j.owner().UID, j.owner().Groups[0], permit.Quote(path))}
}

func (j *judge) shelves() {
	var all []seen
	if j.f.State.Real != "" {
		all = append(all, seen{j.f.State.Real, j.f.State.Path, ""})
	}
	if len(j.f.Shelves) == 0 {
		j.add("shelves", Warning, "the household has no shelf yet", "add a [[shelf]] section to the household file")
	}
	for _, s := range j.f.Shelves {
		for _, f := range s.Folders {
			j.about(f.Path, func() { all = j.folder(all, s, f) })
		}
	}
	j.together()
}

// seen is a place that was judged already.
type seen struct{ real, path, shelf string }

// folder judges one folder of a shelf, and adds it to those that were judged already.
func (j *judge) folder(all []seen, s facts.Shelf, f facts.Folder) []seen {
	what := "shelf " + s.Name
	if f.Share != nil {
		j.share(what, f)
		return all
	}
	if j.f.Engine.Elsewhere {
		j.add(what, OK, f.Path+" is a folder of the engine's machine, and cannot be looked at from here", "",
			"cozyshelf access --prove tries it from inside")
		return all
	}
	clash := slices.IndexFunc(all, func(o seen) bool {
		return f.Real != "" && (o.real == f.Real || household.Within(o.real, f.Real) ||
			household.Within(f.Real, o.real))
	})
	if clash >= 0 {
		o := all[clash]
		of := "shelf " + o.shelf
		if o.shelf == "" {
			of = "the state folder"
		}
		j.add(what, Blocked, fmt.Sprintf("%s and %s (%s) are the same place or lie in one another: they are %s and %s",
			f.Path, o.path, of, f.Real, o.real),
			"name each place once; look for symbolic links")
		return all
	}
	if f.Real != "" {
		all = append(all, seen{f.Real, f.Path, s.Name})
	}
	j.shelf(what, s, f)
	return all
}

// together says which shelves are away at the same time, and what becomes of
// disks that are mounted later.
func (j *judge) together() {
	by := map[string][]string{}
	var sources []string
	var private []string
	for _, s := range j.f.Shelves {
		for _, f := range s.Folders {
			if f.Network && f.Source != "" {
				if len(by[f.Source]) == 0 {
					sources = append(sources, f.Source)
				}
				if !slices.Contains(by[f.Source], s.Name) {
					by[f.Source] = append(by[f.Source], s.Name)
				}
			}
			if f.Private && f.IsFolder && !slices.Contains(private, f.Point) {
				private = append(private, f.Point)
			}
		}
	}
	for _, src := range sources {
		if names := by[src]; len(names) > 1 {
			j.add("one share", OK, fmt.Sprintf("%s lie on %s: while it cannot be reached, none of them can",
				strings.Join(names, ", "), src), "")
		}
	}
	if e := j.f.Engine; e.Can.Isolates && !e.Elsewhere && len(private) > 0 {
		j.add("later mounts", Warning, fmt.Sprintf("a disk that is mounted below a shelf later is seen only after "+
			"a restart, since it would lie on a private mount: %s", strings.Join(private, ", ")),
			"make it shared before the deployment, as most systems have it:")
		j.lines[len(j.lines)-1].Commands = []string{"mount --make-rshared " + permit.Quote(private[0])}
	}
}

// share judges a share that the engine mounts.
func (j *judge) share(what string, f facts.Folder) {
	s := f.Share
	names := map[string]string{"nfs": "NFS export", "smb": "SMB share"}
	switch {
	case !j.f.Engine.Can.Volumes:
		j.add(what, Blocked, f.Path+" can only be mounted by an engine that runs containers",
			"mount it on this machine, and name that folder; or use such an engine")
	case s.Credentials != "":
		j.add(what, Blocked, "the credentials for "+f.Path+" cannot be used: "+s.Credentials,
			"write username= and password= into the file, a line each; chown root it and chmod 600 it")
	case !s.Answers:
		j.add(what, Warning, fmt.Sprintf("%s: %s does not answer: %s", f.Path, s.Host, s.Error),
			"see whether it is on, and lets this machine in; a container that cannot mount it does not start")
	default:
		j.add(what, OK, fmt.Sprintf("%s, %s, mounted by the engine; %s answers", f.Path, names[s.Kind], s.Host), "",
			"what the account may do there is for the other side to say: cozyshelf access --prove tries it")
	}
}

// placed says what is worth knowing of where a folder lies.
func placed(f facts.Folder) []string {
	var out []string
	if f.Real != "" && f.Real != f.Path {
		out = append(out, "through a symbolic link it is "+f.Real+
			"; that is what is mounted, so a link that is changed later counts from the next deployment")
	}
	switch {
	case f.Network:
		out = append(out, fmt.Sprintf("on another machine: %s (%s); that machine has the last word on who may read",
			f.Source, f.FSType))
	case f.Removable:
		out = append(out, fmt.Sprintf("on a disk that can be unplugged: %s (%s)", f.Source, f.FSType))
	}
	if f.Ruled != "" {
		out = append(out, fmt.Sprintf("%s stores no owners; the mount's options rule: %s", f.FSType, f.Ruled))
	}
	if f.Unmounted != "" {
		out = append(out, fmt.Sprintf("/etc/fstab has something mounted at %s, and nothing is", f.Unmounted))
	}
	return out
}

func (j *judge) shelf(what string, s facts.Shelf, f facts.Folder) {
	least, few := int64(0), int64(0)
	if s.Write {
		least, few = 1, fewStateFree
	}
	if !f.Exists && f.Error == "" {
		j.add(what, Blocked, f.Path+" does not exist",
			"make the folder, mount its disk, or correct the path; an engine would make an empty folder in its place")
		return
	}
	l, well := j.place(what, f, least, few)
	if !well {
		j.lines = append(j.lines, l)
		return
	}
	l.Says = fmt.Sprintf("%s, %s free", f.Path, bytes(f.Free))
	l.Details = append(l.Details, placed(f)...)
	if r := f.Access; r != nil && j.f.Account.Known {
		l.Says = fmt.Sprintf("%s: %s; %s free", f.Path, r.Summary(s.Write), bytes(f.Free))
		for _, x := range r.First {
			l.Details = append(l.Details, x.Path+": "+x.Cause)
		}
		if more := r.Failing - len(r.First); more > 0 {
			l.Details = append(l.Details, fmt.Sprintf("and %s more", humanize.Comma(int64(more))))
		}
		remedy := "cozyshelf access " + s.Name + " tells the causes"
		if len(f.Remedies) > 0 {
			remedy = f.Remedies[0].What + ":"
			l.Commands = f.Remedies[0].Commands
			if !f.Remedies[0].ByHand {
				l.Commands = nil
				remedy = fmt.Sprintf("%s; cozyshelf access %s --mend does it, cozyshelf access %s shows all ways",
					f.Remedies[0].What, s.Name, s.Name)
			}
		}
		switch {
		case r.Failing > 0 && r.ReadableFiles == 0:
			l.Status, l.Do = Blocked, "nothing on it could be watched; the smallest change that helps: "+remedy
		case r.Failing > 0 && r.ReadableFiles == r.Files && r.ListableFolders == r.Folders:
			l.Status, l.Do = Warning,
				"the server will not be able to put files there; the smallest change that helps: "+remedy
		case r.Failing > 0:
			l.Status, l.Do = Warning, "these will be listed as unreadable; the smallest change that helps: "+remedy
		case r.Files == 0 && f.Unmounted != "":
			l.Status, l.Do = Warning, fmt.Sprintf("mount %s first: it is empty, and /etc/fstab has a disk for it "+
				"that is not mounted", f.Unmounted)
		case r.Files == 0:
			l.Status, l.Do = Warning, "it is empty: is the right disk mounted? media can also be added later"
		}
	}
	j.lines = append(j.lines, l)
}
