package permit

import (
	"fmt"
	"sort"
	"strings"
)

// Remedy is a way to let the account do what it needs in one folder.
type Remedy struct {
	ID       string   `json:"id"`
	Least    bool     `json:"least"` // the least of those that reach anything
	What     string   `json:"what"`
	Commands []string `json:"commands"` // for a shell
	Reaches  int      `json:"reaches"`  // how many failing paths it mends, at most: what lies behind a closed folder may have causes of its own
	Widens   string   `json:"widens"`   // who else gains what
}

// Who names the account for commands: its name, or nothing where it has none.
type Who struct {
	Name string
	UID  uint32
}

// Remedies gives the ways to mend a report, the least first; widening for
// everyone comes last. A report without problems has none.
func Remedies(r Report, who Who, need Need) []Remedy {
	var out []Remedy
	failing := 0
	groups := map[uint32]int{}
	var above []string // folders above the shelf's folder that are in the way
	for _, pr := range r.Problems {
		if pr.Cause == CauseUnknown {
			continue
		}
		failing += pr.Count
		if pr.Path != r.Folder && !strings.HasPrefix(pr.Path, strings.TrimSuffix(r.Folder, "/")+"/") {
			above = append(above, pr.Path)
			continue
		}
		want := map[string]Perm{"read": Read, "list": Read | Exec, "write": Write | Exec}[pr.Need]
		// The owning group's bits would do, and there is no ACL that says
		// otherwise. The group of root is never offered: it may too much.
		if !pr.ACL && pr.GID != 0 && want&^(Perm(pr.Mode>>3)&7) == 0 && strings.HasPrefix(pr.DecidedBy, string(OtherClass)) {
			groups[pr.GID] += pr.Count
		}
	}
	if failing == 0 {
		return []Remedy{}
	}
	may, mode := "rX", "rX"
	if need.Write {
		may, mode = "rwX", "rwX"
	}
	folder := Quote(r.Folder)
	gids := make([]uint32, 0, len(groups))
	for g := range groups {
		gids = append(gids, g)
	}
	sort.Slice(gids, func(i, j int) bool {
		if groups[gids[i]] != groups[gids[j]] {
			return groups[gids[i]] > groups[gids[j]]
		}
		return gids[i] < gids[j]
	})
	for _, g := range gids {
		m := Remedy{ID: fmt.Sprintf("join-group-%d", g), Reaches: groups[g],
			What:   fmt.Sprintf("let the server be in group %d, which owns them and may already: write groups = [\"%d\"] under [server], and deploy", g, g),
			Widens: fmt.Sprintf("the server gains whatever else group %d may on this machine; nobody else gains anything", g)}
		if who.Name != "" {
			m.What = fmt.Sprintf("add %s to group %d, which owns them and may already, and deploy", who.Name, g)
			m.Commands = append(m.Commands, fmt.Sprintf("usermod -aG %d %s", g, Quote(who.Name)))
		}
		m.Commands = append(m.Commands, "cozyshelf deploy")
		out = append(out, m)
	}
	acl := Remedy{ID: "acl-user", Reaches: failing, What: "give the account an ACL entry on all of it, and a default entry for what comes later", Widens: "nobody else gains anything; the file system must know ACLs"}
	for _, p := range above {
		acl.Commands = append(acl.Commands, fmt.Sprintf("setfacl -m u:%d:x %s", who.UID, Quote(p)))
	}
	acl.Commands = append(acl.Commands,
		fmt.Sprintf("setfacl -R -m u:%d:%s %s", who.UID, may, folder),
		fmt.Sprintf("find %s -type d -exec setfacl -m d:u:%d:%s {} +", folder, who.UID, may))
	out = append(out, acl)
	if len(above) == 0 {
		out = append(out,
			Remedy{ID: "own-group", Reaches: failing, What: "make a group the owner of all of it, let the group read, and let what comes later inherit it",
				Commands: []string{"chgrp -R GROUP " + folder, fmt.Sprintf("chmod -R g+%s %s", mode, folder), fmt.Sprintf("find %s -type d -exec chmod g+s {} +", folder)},
				Widens:   "every member of that group gains the same; members of the former groups may lose it"},
			Remedy{ID: "open", Reaches: failing, What: "open all of it to everyone", Commands: []string{fmt.Sprintf("chmod -R o+%s %s", mode, folder)},
				Widens: "every account of this machine gains the same"})
	}
	out[0].Least = true
	return out
}

// Quote writes a text as a shell takes it.
func Quote(s string) string {
	if s != "" && !strings.ContainsFunc(s, func(r rune) bool {
		return !strings.ContainsRune("/._-+,:@", r) && !(r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z')
	}) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
