// Package verdict judges whether a household will work on a machine: household
// file and facts in, lines out. Each line is ok, a warning, or blocked, and the
// last two say what to do.
package verdict

import (
	"fmt"
	"slices"
	"strings"

	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
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
)

// Judge gives every line, in the order in which things are needed.
func Judge(h *household.Household, f facts.Facts) []Line {
	j := &judge{h: h, f: f}
	j.add("household file", OK, fmt.Sprintf("%q, %s", h.Household.Name, plural(len(h.Shelves), "shelf", "shelves")), "")
	j.engine()
	j.machine()
	j.port()
	j.account()
	j.state()
	j.scratch()
	j.shelves()
	return j.lines
}

type judge struct {
	h     *household.Household
	f     facts.Facts
	lines []Line
}

func (j *judge) add(what string, s Status, says, do string, details ...string) {
	j.lines = append(j.lines, Line{what, s, says, do, details})
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
	case e.Kind == "process":
		j.add("engine", OK, "process, embedded ("+e.Why+")", "")
	default:
		j.add("engine", OK, fmt.Sprintf("%s %s, API %s (%s)", e.Kind, e.Version, e.API, e.Why), "")
	}
	if e.Arch != "" && e.Arch != j.f.Arch {
		j.add("architecture", Blocked, fmt.Sprintf("this program is for %s, the engine runs %s", j.f.Arch, e.Arch), "use the program built for "+e.Arch)
	} else {
		j.add("architecture", OK, fmt.Sprintf("%s/%s, %s", j.f.OS, j.f.Arch, plural(j.f.CPUs, "processor core", "processor cores")), "")
	}
	if e.Elsewhere {
		j.add("place", Warning, "the engine is on another machine ("+e.Endpoint+"): the folders below were looked at here, not there", "run check on that machine")
	}
	if e.Rootless {
		j.add("ids", Warning, "the engine shifts ids (user namespace): the access computed below is that of the unshifted account", "look at access again after the deployment, with shelf show")
	}
}

func (j *judge) machine() {
	want := int64(j.h.Server.Memory)
	note := ""
	if j.h.Storage.Scratch == "memory" {
		want += int64(j.h.Storage.ScratchLimit)
		note = " with scratch in memory"
	}
	says := fmt.Sprintf("%s of %s available; the server may take %s%s", bytes(j.f.MemoryAvailable), bytes(j.f.Memory), bytes(want), note)
	switch {
	case j.f.Memory > 0 && want > j.f.Memory:
		j.add("memory", Blocked, says, "lower memory or scratch_limit, or put scratch into a folder")
	case want > j.f.MemoryAvailable:
		j.add("memory", Warning, says, "lower memory or scratch_limit, or free some memory")
	default:
		j.add("memory", OK, says, "")
	}
	if zone := j.h.Household.Timezone; j.f.Timezone != "" && zone != j.f.Timezone {
		j.add("time zone", OK, fmt.Sprintf("%s (this machine: %s)", zone, j.f.Timezone), "")
	} else {
		j.add("time zone", OK, zone, "")
	}
}

func (j *judge) port() {
	p := j.f.Port
	switch {
	case p.Error != "":
		j.add("port", Blocked, fmt.Sprintf("%s cannot be listened on: %s", p.Address, p.Error), "choose another port or bind address under [server]")
	case p.Ours:
		j.add("port", OK, p.Address+", held by this household's own server", "")
	case !p.Free:
		holder := p.Holder
		if holder == "" {
			holder = "another program"
		}
		do := "stop it, or choose another port under [server]"
		if p.Next > 0 {
			do = fmt.Sprintf("stop it, or write port = %d under [server]", p.Next)
		}
		j.add("port", Blocked, fmt.Sprintf("%s is held by %s", p.Address, holder), do)
	default:
		j.add("port", OK, p.Address+" is free", "")
	}
}

func (j *judge) account() {
	a := j.f.Account
	if !a.Known {
		if !strings.HasPrefix(a.Why, "there is no account") && a.Why != "" {
			j.add("run-as account", Blocked, fmt.Sprintf("%q cannot be used: %s", a.Asked, a.Why), "correct run_as and groups under [server]")
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
	case j.f.Engine.Kind == "process" && j.f.CallerUID != 0 && int(a.UID) != j.f.CallerUID:
		j.add("run-as account", Blocked, fmt.Sprintf("%s is not you (uid %d), and the process engine cannot become it", who, j.f.CallerUID), fmt.Sprintf("run as root, or write run_as = \"%d:…\" with your own numbers", j.f.CallerUID))
	case a.UID == 0:
		j.add("run-as account", Warning, who+" is root", "use an account of its own: leave run_as out, and check proposes one",
			"the container has no capabilities, so root in it passes over no permission: it reads what its owner, group and ACLs let it, like anyone else",
			"but it owns every file of root's, and could change them if it broke out")
	default:
		j.add("run-as account", OK, who, "")
	}
}

// proposal says how to come by an account that there is not yet.
func (j *judge) proposal(a facts.Account) {
	do := "write run_as = \"uid:gid\" under [server]"
	var details []string
	switch p := a.Proposal; {
	case j.f.Engine.Kind == "process" && j.f.CallerUID != 0:
		do = fmt.Sprintf("write run_as = \"%d:…\" with your own numbers, or run as root", j.f.CallerUID)
	case p != nil && len(p.Commands) > 0:
		do = "make it: cozyshelf check --mend, or " + strings.Join(p.Commands, " && ")
		details = append(details, "it will have no login and no home"+map[bool]string{true: ", and be in no group but its own: no shelf needs one", false: ", and be in the groups that the shelves need: " + strings.Trim(fmt.Sprint(p.Groups), "[]")}[len(p.Groups) == 0])
	case p != nil:
		do = "make it with this machine's own tools, with no login and no home; or write run_as = \"1500:1500\", numbers that nobody has"
	}
	j.add("run-as account", Blocked, fmt.Sprintf("%q is not an account of this machine", a.Asked), do, details...)
}

// place judges that a folder is there or can be made, and has room.
func (j *judge) place(what string, f facts.Folder, least, few int64) (Line, bool) {
	l := Line{What: what, Status: OK}
	switch {
	case f.Silent:
		l.Status, l.Says, l.Do = Blocked, f.Path+" does not answer", "see to the disk or the network behind it; an engine that is given it would hang too (umount -l takes it away)"
	case f.Error != "":
		l.Status, l.Says, l.Do = Blocked, fmt.Sprintf("%s cannot be looked at: %s", f.Path, f.Error), "run check as an account that may, such as root"
	case f.Exists && !f.IsFolder:
		l.Status, l.Says, l.Do = Blocked, f.Path+" is a file, not a folder", "name a folder"
	case f.ReadOnly && least > 0:
		l.Status, l.Says, l.Do = Blocked, f.Path+" is on a file system that is mounted read-only", "choose another place, or mount it writable"
	case f.Free < least:
		l.Status, l.Says, l.Do = Blocked, fmt.Sprintf("%s has %s free, %s is the least", f.Path, bytes(f.Free), bytes(least)), "free some space, or choose another place"
	case f.Free < few:
		l.Status, l.Says, l.Do = Warning, fmt.Sprintf("%s has only %s free", f.Path, bytes(f.Free)), "free some space soon"
	default:
		return l, true
	}
	return l, false
}

func (j *judge) state() { j.writable("state folder", j.f.State) }

func (j *judge) scratch() {
	if j.f.Scratch != nil {
		j.writable("scratch folder", *j.f.Scratch)
	}
}

func (j *judge) writable(what string, f facts.Folder) {
	l, well := j.place(what, f, leastStateFree, fewStateFree)
	switch {
	case !well:
	case !f.Exists && !f.Creatable:
		l.Status, l.Says = Blocked, fmt.Sprintf("%s does not exist, and you may not make it in %s", f.Path, f.Parent)
		l.Do = fmt.Sprintf("make it: mkdir -p %s && chown %d:%d %s", f.Path, j.f.Account.UID, j.f.Account.GID, f.Path)
	case !f.Exists && j.f.CallerUID != 0 && int(j.f.Account.UID) != j.f.CallerUID:
		l.Status, l.Says = Blocked, fmt.Sprintf("%s does not exist, and you (uid %d) cannot give it to the run-as account", f.Path, j.f.CallerUID)
		l.Do = fmt.Sprintf("make it as root: mkdir -p %s && chown %d:%d %s", f.Path, j.f.Account.UID, j.f.Account.GID, f.Path)
	case !f.Exists:
		l.Says = fmt.Sprintf("%s will be made; %s free", f.Path, bytes(f.Free))
	case f.Access != nil && j.f.Account.Known && (f.Access.WritableFolders < 1 || f.Access.Failing > 0):
		l.Status, l.Says = Blocked, f.Path+" cannot be used by the run-as account"
		l.Do = fmt.Sprintf("give it the folder: chown -R %d:%d %s", j.f.Account.UID, j.f.Account.GID, f.Path)
		for _, x := range f.Access.First {
			l.Details = append(l.Details, x.Path+": "+x.Cause)
		}
	default:
		l.Says = fmt.Sprintf("%s, %s free", f.Path, bytes(f.Free))
	}
	j.lines = append(j.lines, l)
}

func (j *judge) shelves() {
	type seen struct{ real, path, shelf string }
	var all []seen
	if j.f.State.Real != "" {
		all = append(all, seen{j.f.State.Real, j.f.State.Path, ""})
	}
	if len(j.f.Shelves) == 0 {
		j.add("shelves", Warning, "the household has no shelf yet", "add a [[shelf]] section to the household file")
	}
	for _, s := range j.f.Shelves {
		for _, f := range s.Folders {
			what := "shelf " + s.Name
			if f.Share != nil {
				j.share(what, f)
				continue
			}
			clash := slices.IndexFunc(all, func(o seen) bool {
				return f.Real != "" && (o.real == f.Real || household.Within(o.real, f.Real) || household.Within(f.Real, o.real))
			})
			if clash >= 0 {
				o := all[clash]
				of := "shelf " + o.shelf
				if o.shelf == "" {
					of = "the state folder"
				}
				j.add(what, Blocked, fmt.Sprintf("%s and %s (%s) are the same place or lie in one another: they are %s and %s", f.Path, o.path, of, f.Real, o.real), "name each place once; look for symbolic links")
				continue
			}
			if f.Real != "" {
				all = append(all, seen{f.Real, f.Path, s.Name})
			}
			j.shelf(what, s, f)
		}
	}
}

// share judges a share that the engine mounts.
func (j *judge) share(what string, f facts.Folder) {
	s := f.Share
	names := map[string]string{"nfs": "NFS export", "smb": "SMB share"}
	switch {
	case j.f.Engine.Kind == "process":
		j.add(what, Blocked, f.Path+" can only be mounted by an engine that runs containers", "mount it on this machine, and name that folder; or use such an engine")
	case s.Credentials != "":
		j.add(what, Blocked, "the credentials for "+f.Path+" cannot be used: "+s.Credentials, "write username= and password= into the file, a line each; chown root it and chmod 600 it")
	case !s.Answers:
		j.add(what, Warning, fmt.Sprintf("%s: %s does not answer: %s", f.Path, s.Host, s.Error), "see whether it is on, and lets this machine in; a container that cannot mount it does not start")
	default:
		j.add(what, OK, fmt.Sprintf("%s, %s, mounted by the engine; %s answers", f.Path, names[s.Kind], s.Host), "", "what the account may do there is for the other side to say: cozyshelf access --prove tries it")
	}
}

func (j *judge) shelf(what string, s facts.Shelf, f facts.Folder) {
	least, few := int64(0), int64(0)
	if s.Write {
		least, few = 1, fewStateFree
	}
	if !f.Exists && f.Error == "" {
		j.add(what, Blocked, f.Path+" does not exist", "make the folder, mount its disk, or correct the path; an engine would make an empty folder in its place")
		return
	}
	l, well := j.place(what, f, least, few)
	if !well {
		j.lines = append(j.lines, l)
		return
	}
	l.Says = fmt.Sprintf("%s, %s free", f.Path, bytes(f.Free))
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
			remedy = fmt.Sprintf("%s (%s); all ways: cozyshelf access %s", f.Remedies[0].What, strings.Join(f.Remedies[0].Commands, " && "), s.Name)
		}
		switch {
		case r.Failing > 0 && r.ReadableFiles == 0:
			l.Status, l.Do = Blocked, "nothing on it could be watched; the least remedy: "+remedy
		case r.Failing > 0 && r.ReadableFiles == r.Files && r.ListableFolders == r.Folders:
			l.Status, l.Do = Warning, "the server will not be able to put files there; the least remedy: "+remedy
		case r.Failing > 0:
			l.Status, l.Do = Warning, "these will be listed as unreadable; the least remedy: "+remedy
		case r.Files == 0:
			l.Status, l.Do = Warning, "it is empty: is the right disk mounted? media can also be added later"
		}
	}
	j.lines = append(j.lines, l)
}
