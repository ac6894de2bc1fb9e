package permit

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// Remedy is a way to let the account do what it needs in one folder.
type Remedy struct {
	ID       string   `json:"id"`
	Smallest bool     `json:"smallest"` // the least of those that reach anything
	What     string   `json:"what"`
	Commands []string `json:"commands"`  // for a shell
	Reaches  int      `json:"reaches"`   // how many paths become usable by it alone
	WhoGains string   `json:"who_gains"` // who else gains what
	Files    int      `json:"files"`     // how many it touches
	Folders  int      `json:"folders"`
	ByHand   bool     `json:"by_hand,omitempty"` // not for this program to carry out

	Kind    Kind     `json:"-"`
	Targets []Target `json:"-"`
	Subject uint32   `json:"-"` // the user or group that it is about
	Write   bool     `json:"-"` // folders are to be writable
	Owner   Identity `json:"-"` // the account
	Except  []string `json:"-"` // mounts below the targets where modes cannot be changed
}

// Kind is what a remedy does.
type Kind string

// The kinds of remedies, the least first. The first two, and all from Options
// on, change nothing about files.
const (
	Join     Kind = "join-group" // the account joins a group
	OwnMode  Kind = "own-mode"   // the account's own files get their owner bits back
	Unfix    Kind = "unset-flag" // takes the flag immutable or append-only away
	ACLUser  Kind = "acl-user"
	ACLGroup Kind = "acl-group"
	ACLLater Kind = "acl-later" // for what comes later only
	OwnGroup Kind = "own-group"
	Open     Kind = "open"
	Options  Kind = "mount-options"
	Remount  Kind = "remount"
	Relabel  Kind = "relabel"
)

// Kinds are all kinds of remedies, the least first.
var Kinds = []Kind{Join, OwnMode, Unfix, ACLUser, ACLGroup, ACLLater, OwnGroup, Open, Options, Remount, Relabel}

// IsID reports whether a word can be the ID of a remedy: its kind, or, where there may be
// several of that, its kind with the number of the group.
func IsID(word string) bool {
	for _, k := range Kinds {
		rest, ok := strings.CutPrefix(word, string(k))
		if !ok {
			continue
		}
		if rest == "" {
			return true
		}
		number, dash := strings.CutPrefix(rest, "-")
		if _, err := strconv.ParseUint(number, 10, 32); dash && err == nil &&
			(k == Join || k == ACLGroup || k == OwnGroup) {
			return true
		}
	}
	return false
}

// Target is where a remedy applies: one path, or all below it too.
type Target struct {
	Path string
	Deep bool
	Pass bool // only to be passed through: a folder above the shelf's own
}

// Who names the account for commands: its name, or nothing where it has none.
type Who struct {
	Name   string
	UID    uint32
	Groups []uint32 // the primary one first
	// GroupName gives a group's name, or nothing; nil where none are known.
	GroupName func(gid uint32) string
}

// group writes a group with its name, where it has one.
func (w Who) group(gid uint32) string {
	if w.GroupName != nil {
		if name := w.GroupName(gid); name != "" {
			return fmt.Sprintf("%s (%d)", name, gid)
		}
	}
	return fmt.Sprint(gid)
}

// Apply gives the state that the remedy makes of a path's, which lies on a
// target. It does not look at the path.
func (m Remedy) Apply(s State, folder bool, t Target) State {
	need := Read
	switch {
	case t.Pass:
		need = Exec
	case folder && m.Write:
		need = Read | Write | Exec
	case folder:
		need = Read | Exec
	}
	attrs := Attrs{s.Mode & 0o777, s.UID, s.GID, s.ACL}
	later := folder && t.Deep && !t.Pass
	switch m.Kind {
	case OwnMode:
		if s.UID == m.Owner.UID {
			if i := find(s.ACL, UserObj, none); i >= 0 {
				s.ACL = slices.Clone(s.ACL)
				s.ACL[i].Perm |= need
			}
			s.Mode |= uint16(need) << 6
		}
	case Unfix:
		s.Fixed = ""
	case ACLUser:
		if s.UID != m.Subject { // an entry for the owner would mean nothing
			// What it has already, it keeps.
			s = grantEntry(s, User, m.Subject, need|granted(m.Owner, attrs))
		}
		if later {
			s = grantDefault(s, User, m.Subject, need)
		}
	case ACLGroup:
		s = grantEntry(s, Group, m.Subject, need|Perm(s.Mode)&7)
		if later {
			s = grantDefault(s, Group, m.Subject, need)
		}
	case ACLLater:
		if folder {
			s = grantDefault(s, User, m.Subject, Read|Exec)
		}
	case OwnGroup:
		if len(s.ACL) > 0 {
			return s
		}
		s.GID = m.Subject
		s.Mode |= uint16(need) << 3
		if later {
			s.Mode |= 0o2000
		}
	case Open:
		s.Mode |= uint16(need)
		if i := find(s.ACL, Other, none); i >= 0 {
			s.ACL = slices.Clone(s.ACL)
			s.ACL[i].Perm |= need
		}
	}
	return s
}

// Target finds the target that a path lies on.
func (m Remedy) Target(p string) (Target, bool) {
	for _, point := range m.Except {
		if Below(p, point) {
			return Target{}, false
		}
	}
	for _, t := range m.Targets {
		if p == t.Path || t.Deep && Below(p, t.Path) {
			return t, true
		}
	}
	return Target{}, false
}

// mended is a tree as it would be with a remedy.
type mended struct {
	Tree
	m Remedy
}

func (t mended) one(p string, it Item) Item {
	if on, ok := t.m.Target(p); ok && it.Err == nil && !it.Link && !it.Other {
		return it.with(t.m.Apply(it.State(), it.Folder, on))
	}
	return it
}

func (t mended) Item(p string) (Item, error) {
	it, err := t.Tree.Item(p)
	return t.one(p, it), err
}

func (t mended) Items(p string, yield func(Item)) error {
	return t.Tree.Items(p, func(it Item) { yield(t.one(path.Join(p, it.Name), it)) })
}

// Mount says what a path is mounted from.
func (t mended) Mount(p string) Mount {
	if g, ok := t.Tree.(Mounter); ok {
		return g.Mount(p)
	}
	return Mount{}
}

// Mended gives the tree as it would be with a remedy carried out, and who asks.
func Mended(tree Tree, id Identity, m Remedy) (Tree, Identity) {
	if m.Kind == Join {
		id.Groups = append(slices.Clone(id.Groups), m.Subject)
		return tree, id
	}
	return mended{tree, m}, id
}

func (r Report) granted() int { return r.ReadableFiles + r.ListableFolders + r.WritableFolders }

// few is up to how many failing paths a remedy names one by one; with more, it
// is about the whole folder.
const few = keepFirst

// Remedies gives the ways to mend a report, the least first; widening for
// everyone comes last. What each reaches is found by auditing the tree as it
// would be. Remedies that reach nothing are left out. A report without problems
// has none.
func Remedies(tree Tree, r Report, id Identity, who Who, need Need) []Remedy {
	need.Each, need.Fails = false, nil
	s := search{tree: tree, r: r, id: id, who: who, need: need, join: map[uint32]int{}, found: []Remedy{}}
	s.sortProblems()
	later := foreseen(tree, r, id, need)
	if s.files+s.folders+len(s.above)+len(s.hand) == 0 {
		return append(s.found, later...)
	}
	s.aim()
	s.tryJoin()
	s.tryOwnMode()
	s.tryUnfix()
	s.tryACLs()
	s.tryOwnGroup()
	s.try(s.remedy(Open, 0, "open it to everyone", "every account of this machine gains the same", s.chmods("o")...))
	for _, m := range s.hand {
		if !slices.ContainsFunc(s.found, func(o Remedy) bool { return o.ID == m.ID && o.What == m.What }) {
			s.found = append(s.found, m)
		}
	}
	if len(s.found) > 0 {
		s.found[0].Smallest = true
	}
	return append(s.found, later...)
}

// search is the search for the remedies of one report.
type search struct {
	tree Tree
	r    Report
	id   Identity
	who  Who
	need Need

	// What the problems ask for. Those of unknown cause are only counted.
	above          []Target       // folders on the way to the shelf's folder
	hand           []Remedy       // what lies with mounts and labels
	join           map[uint32]int // group → problems that membership would end
	unknown, owned int
	files, folders int // in the shelf's folder, without those that are mended by hand
	fixed          bool

	// What the remedies change: single paths, or the whole folder.
	inside []Target
	whole  bool
	except []string // mounts in the folder that no mode opens
	prune  string   // the same for find

	found []Remedy
}

// sortProblems says of each problem what kind of remedy it asks for.
func (s *search) sortProblems() {
	for _, pr := range s.r.Problems {
		if pr.Cause == CauseUnknown {
			s.unknown += pr.Count
			continue
		}
		s.fixed = s.fixed || pr.Cause == CauseFixed
		if !Below(pr.Path, s.r.Folder) {
			s.above = append(s.above, Target{Path: pr.Path, Pass: true})
			continue
		}
		switch pr.Cause {
		case CauseOptions, CauseReadOnly, CauseSELinux:
			s.hand = append(s.hand, byHand(pr, s.r, s.who, s.need))
			continue
		}
		s.files += pr.Count - pr.Folders
		s.folders += pr.Folders
		want := map[string]Perm{"read": Read, "list": Read | Exec, "write": Write | Exec}[pr.Need]
		switch {
		case pr.Class == Owner:
			s.owned += pr.Count
		// The owning group's bits would do, and there is no ACL that says
		// otherwise. The group of root is never offered: it has too many rights.
		case !pr.ACL && pr.GID != 0 && want&^(Perm(pr.Mode>>3)&7) == 0 && pr.Class == OtherClass:
			s.join[pr.GID] += pr.Count
		}
	}
}

// aim chooses the targets: each path that fails where they are few and known,
// else the whole folder.
func (s *search) aim() {
	if s.r.Failing <= few && s.unknown == 0 {
		for _, f := range s.r.First {
			t := Target{Path: f.Path, Deep: f.Need == "list"}
			byHand := f.kind == CauseOptions || f.kind == CauseReadOnly || f.kind == CauseSELinux
			if Below(f.Path, s.r.Folder) && !byHand && !slices.Contains(s.inside, t) {
				s.inside = append(s.inside, t)
			}
		}
		// A folder that fails twice, or lies in one that is mended with all below it.
		s.inside = slices.DeleteFunc(s.inside, func(t Target) bool {
			return slices.ContainsFunc(s.inside, func(o Target) bool { return o != t && o.Deep && Below(t.Path, o.Path) })
		})
	} else if s.files+s.folders > 0 {
		s.inside = []Target{{Path: s.r.Folder, Deep: true}}
		s.files, s.folders, s.whole = s.r.Files, s.r.Folders, true
	}
	if !s.whole {
		return
	}
	for _, g := range s.r.Mounts {
		if g.Ruled != "" || g.ReadOnly || g.Daemon || g.Only != nil {
			s.except = append(s.except, g.Point)
			s.prune += " -path " + Quote(g.Point) + " -prune -o"
		}
	}
}

// remedy gives a remedy that changes the targets.
func (s *search) remedy(k Kind, subject uint32, what, widens string, commands ...string) Remedy {
	folders := s.folders + len(s.above)
	return Remedy{Kind: k, Subject: subject, Files: s.files, Folders: folders, WhoGains: widens, Commands: commands,
		What:    fmt.Sprintf("%s; touches %s and %s", what, plural(s.files, "file"), plural(folders, "folder")),
		Targets: slices.Concat(s.above, s.inside), Except: s.except}
}

// try keeps a remedy if it reaches something.
func (s *search) try(m Remedy) {
	noACL := slices.ContainsFunc(s.r.Mounts, func(g Mount) bool { return g.NoACL && Below(s.r.Folder, g.Point) })
	if noACL && (m.Kind == ACLUser || m.Kind == ACLGroup) {
		return
	}
	m.Owner, m.Write = s.id, s.need.Write
	t, as := Mended(s.tree, s.id, m)
	after, err := Audit(t, s.r.Folder, as, s.need)
	if err != nil || after.granted() <= s.r.granted() {
		return
	}
	m.Reaches = after.granted() - s.r.granted()
	m.ID = string(m.Kind)
	if m.Kind == Join {
		m.ID = fmt.Sprintf("%s-%d", m.Kind, m.Subject)
	}
	s.found = append(s.found, m)
}

// tryJoin tries membership in each group that owns what fails.
func (s *search) tryJoin() {
	for _, g := range byCount(s.join) {
		m := Remedy{Kind: Join, Subject: g,
			What: fmt.Sprintf("let the server be in group %s, which owns them and may already: groups = "+
				"[\"%d\"] under [server]; touches the household file only", s.who.group(g), g),
			Commands: []string{"cozyshelf deploy"},
			WhoGains: fmt.Sprintf("the server gains whatever else group %s may on this machine; nobody else gains "+
				"anything", s.who.group(g))}
		if s.who.Name != "" {
			m.What = fmt.Sprintf("add %s to group %s, which owns them and may already; touches no file", s.who.Name,
				s.who.group(g))
			m.Commands = []string{fmt.Sprintf("usermod -aG %d %s", g, Quote(s.who.Name)), "cozyshelf deploy"}
		}
		s.try(m)
	}
}

// tryOwnMode gives the account back what it needs of its own files.
func (s *search) tryOwnMode() {
	if s.owned == 0 {
		return
	}
	var c []string
	for _, t := range s.inside {
		if t.Deep {
			c = append(c,
				fmt.Sprintf("find %s -user %d -type d -exec chmod u+%s {} +", Quote(t.Path), s.id.UID, s.folderPerm()),
				fmt.Sprintf("find %s -user %d -type f -exec chmod u+r {} +", Quote(t.Path), s.id.UID))
			continue
		}
		for _, f := range s.r.First {
			if f.Path == t.Path && f.Kind == "folder" {
				c = append(c, fmt.Sprintf("chmod u+%s %s", s.folderPerm(), Quote(t.Path)))
			} else if f.Path == t.Path {
				c = append(c, "chmod u+r "+Quote(t.Path))
			}
		}
	}
	m := s.remedy(OwnMode, s.id.UID, "the account owns them: give the owner back what it needs",
		"nobody else gains anything", c...)
	m.Targets = s.inside
	s.try(m)
}

// tryUnfix takes away the flags that forbid changes.
func (s *search) tryUnfix() {
	if !s.fixed {
		return
	}
	s.try(s.remedy(Unfix, 0, "take the flag away that keeps everyone from changing it",
		"whoever may change them by their modes can do so again",
		s.commands(func(p string) []string { return []string{"chattr -R -ia " + p} },
			func(p, _ string) []string { return []string{"chattr -ia " + p} })...))
}

// tryACLs gives the account an ACL entry, then its group.
func (s *search) tryACLs() {
	onward := ""
	if slices.ContainsFunc(s.inside, func(t Target) bool { return t.Deep }) {
		onward = ", and a default entry for what comes later"
	}
	masks := ""
	if s.r.ACLs > 0 {
		masks = "; setfacl makes masks anew, which can give others back what a mask held from them: --mend cuts " +
			"their entries down instead"
	}
	s.try(s.remedy(ACLUser, s.id.UID, fmt.Sprintf("give the account (user %d) an ACL entry%s", s.id.UID, onward),
		"nobody else gains anything"+masks, s.facls(fmt.Sprintf("u:%d", s.id.UID))...))
	if g, ok := s.group(); ok {
		s.try(s.remedy(ACLGroup, g, fmt.Sprintf("give the account's group, %s, an ACL entry%s", s.who.group(g), onward),
			fmt.Sprintf("every member of group %s gains the same", s.who.group(g))+masks,
			s.facls(fmt.Sprintf("g:%d", g))...))
	}
}

// tryOwnGroup makes the account's group the owning group.
func (s *search) tryOwnGroup() {
	g, ok := s.group()
	if !ok || s.r.ACLs > 0 || len(s.above) > 0 {
		return
	}
	c := s.commands(func(p string) []string {
		return []string{fmt.Sprintf("chgrp -R %d %s", g, p),
			fmt.Sprintf("find %s -type d -exec chmod g+%s,g+s {} +", p, s.folderPerm()),
			fmt.Sprintf("find %s -type f -exec chmod g+r {} +", p)}
	}, func(p, perm string) []string {
		return []string{fmt.Sprintf("chgrp %d %s", g, p), fmt.Sprintf("chmod g+%s %s", perm, p)}
	})
	s.try(s.remedy(OwnGroup, g, fmt.Sprintf("make group %s the owning group, let it read, and let folders hand it "+
		"on to what comes later", s.who.group(g)),
		fmt.Sprintf("every member of group %s gains the same; members of the former groups have from now on what "+
			"everyone has", s.who.group(g)), c...))
}

// group is the account's own group, if it has one that may be given something.
func (s *search) group() (uint32, bool) {
	if len(s.who.Groups) == 0 || s.who.Groups[0] == 0 {
		return 0, false
	}
	return s.who.Groups[0], true
}

// folderPerm is what the account needs of a folder, as chmod and setfacl write it.
func (s *search) folderPerm() string {
	if s.need.Write {
		return "rwx"
	}
	return "rx"
}

// commands gives the commands for all targets: deep for those with all below
// them, one for the others with what they need.
func (s *search) commands(deep func(p string) []string, one func(p, perm string) []string) []string {
	var c []string
	for _, t := range s.above {
		c = append(c, one(Quote(t.Path), "x")...)
	}
	for _, t := range s.inside {
		perm := "r"
		if slices.ContainsFunc(s.r.First, func(f Finding) bool { return f.Path == t.Path && f.Kind == "folder" }) {
			perm = s.folderPerm()
		}
		if t.Deep {
			c = append(c, deep(Quote(t.Path))...)
		} else {
			c = append(c, one(Quote(t.Path), perm)...)
		}
	}
	return c
}

func (s *search) chmods(class string) []string {
	return s.commands(func(p string) []string {
		return []string{fmt.Sprintf("find %s%s -type d -exec chmod %s+%s {} +", p, s.prune, class, s.folderPerm()),
			fmt.Sprintf("find %s%s -type f -exec chmod %s+r {} +", p, s.prune, class)}
	}, func(p, perm string) []string { return []string{fmt.Sprintf("chmod %s+%s %s", class, perm, p)} })
}

func (s *search) facls(entry string) []string {
	dir := s.folderPerm()
	return s.commands(func(p string) []string {
		return []string{fmt.Sprintf("find %s%s -type d -exec setfacl -m %s:%s,d:%s:%s {} +", p, s.prune, entry, dir,
			entry, dir), fmt.Sprintf("find %s%s -type f -exec setfacl -m %s:r {} +", p, s.prune, entry)}
	}, func(p, perm string) []string { return []string{fmt.Sprintf("setfacl -m %s:%s %s", entry, perm, p)} })
}

// foreseen gives the remedy for files that arrive later and would not be
// readable, where most of those that are there are.
func foreseen(tree Tree, r Report, id Identity, need Need) []Remedy {
	short := r.Later.Folders - r.Later.Readable
	if short == 0 || r.ReadableFiles == 0 ||
		slices.ContainsFunc(r.Mounts, func(g Mount) bool { return g.NoACL && Below(r.Folder, g.Point) }) {
		return nil
	}
	m := Remedy{ID: string(ACLLater), Kind: ACLLater, Subject: id.UID, Owner: id, Folders: r.Folders,
		Targets: []Target{{Path: r.Folder, Deep: true}},
		What: fmt.Sprintf("give folders a default entry for the account (user %d), so that what comes later "+
			"can be read; touches 0 files and %s", id.UID, plural(r.Folders, "folder")),
		WhoGains: "nobody else gains anything; in these folders the default entries count from now on in place of " +
			"the umask",
		Commands: []string{fmt.Sprintf("find %s -type d -exec setfacl -m d:u:%d:rx {} +", Quote(r.Folder), id.UID)}}
	t, as := Mended(tree, id, m)
	after, err := Audit(t, r.Folder, as, need)
	if err != nil || after.Later.Readable <= r.Later.Readable {
		return nil
	}
	return []Remedy{m}
}

// byHand gives the remedy for what lies with mounts and labels.
func byHand(pr Obstacle, r Report, who Who, need Need) Remedy {
	m := Remedy{ByHand: true, Reaches: pr.Count}
	switch pr.Cause {
	case CauseReadOnly:
		m.ID, m.Kind, m.What = string(Remount), Remount, "mount "+pr.Point+
			" writable, or let the shelf be read only: access = \"read\""
		m.Commands = []string{"mount -o remount,rw " + Quote(pr.Point)}
		m.WhoGains = "whoever may write there by mode can do so again; a file system that the kernel made read-only " +
			"after errors needs a check first"
	case CauseSELinux:
		m.ID, m.Kind, m.What = string(Relabel), Relabel, "label them so that containers may use them"
		m.Commands = []string{fmt.Sprintf("semanage fcontext -a -t container_file_t %s", Quote(r.Folder+"(/.*)?")),
			"restorecon -R " + Quote(r.Folder)}
		m.WhoGains = "every confined container that is given the folder may use it; other confined services may lose it"
	default:
		m.ID, m.Kind = string(Options), Options
		gid := who.UID
		if len(who.Groups) > 0 {
			gid = who.Groups[0]
		}
		m.What = fmt.Sprintf("owners and modes are not stored there, so chmod and chown are no help: mount %s with "+
			"options that fit the account", pr.Point)
		files, folders := "0440", "0550"
		if need.Write {
			files, folders = "0640", "0750"
		}
		options := fmt.Sprintf("uid=%d,gid=%d,fmask=0137,dmask=0027", who.UID, gid)
		for _, g := range r.Mounts {
			if g.Point != pr.Point {
				continue
			}
			switch {
			case g.Only != nil:
				options = "allow_other,default_permissions"
			case g.Type == "cifs" || g.Type == "smb3":
				options = fmt.Sprintf("uid=%d,gid=%d,file_mode=%s,dir_mode=%s", who.UID, gid, files, folders)
			}
		}
		m.Commands = []string{"umount " + Quote(pr.Point), "mount -o " + options + " … " + Quote(pr.Point),
			"# and the same options in /etc/fstab"}
		m.WhoGains = "the account gains the whole mount; whoever had it by the former options may lose it"
	}
	return m
}

// byCount gives the keys, those with the most first.
func byCount(n map[uint32]int) []uint32 {
	keys := make([]uint32, 0, len(n))
	for k := range n {
		keys = append(keys, k)
	}
	sort.Slice(keys, func(i, j int) bool {
		if n[keys[i]] != n[keys[j]] {
			return n[keys[i]] > n[keys[j]]
		}
		return keys[i] < keys[j]
	})
	return keys
}

func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// Quote writes a text as a shell takes it.
func Quote(s string) string {
	if s != "" && !strings.ContainsFunc(s, func(r rune) bool {
		return !strings.ContainsRune("/._-+,:@", r) &&
			!(r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z')
	}) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// Enough gives remedies that, carried out one after the other, mend all that can
// be mended, taking the least each time; and what an audit says after them.
func Enough(tree Tree, r Report, id Identity, who Who, need Need) ([]Remedy, Report) {
	var out []Remedy
	need.Each, need.Fails = false, nil
	for range 20 {
		list := Remedies(tree, r, id, who, need)
		i := slices.IndexFunc(list, func(m Remedy) bool { return !m.ByHand && m.Kind != ACLLater })
		if i < 0 || len(r.Problems) == 0 {
			break
		}
		m := list[i]
		t, as := Mended(tree, id, m)
		after, err := Audit(t, r.Folder, as, need)
		if err != nil {
			break
		}
		out, tree, id, r = append(out, m), t, as, after
	}
	return out, r
}
