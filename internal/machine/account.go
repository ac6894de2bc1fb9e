package machine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
)

// Account finds the run-as account of a household on this machine, with the
// groups that the household file adds.
func Account(s household.Server) facts.Account {
	a := account(s)
	if !a.Known {
		return a
	}
	for _, name := range s.Groups {
		gid, ok := household.GroupNumber(name)
		if !ok {
			if gid, ok = groupID(name); !ok {
				a.Known, a.Why = false, fmt.Sprintf("there is no group %q", name)
				return a
			}
		}
		if !slices.Contains(a.Groups, gid) {
			a.Groups = append(a.Groups, gid)
		}
	}
	return a
}

// errNoAccount says that no account has a name.
type errNoAccount string

func (e errNoAccount) Error() string { return fmt.Sprintf("there is no account %q", string(e)) }

// Who names an account for the commands of remedies.
func Who(a facts.Account) permit.Who {
	return permit.Who{Name: a.Name, UID: a.UID, Groups: append([]uint32{a.GID}, a.Groups...), GroupName: GroupName}
}

func account(s household.Server) facts.Account {
	a := facts.Account{Asked: s.RunAs}
	if uid, gid, ok := s.IDs(); ok {
		a.Known, a.UID, a.GID, a.Groups = true, uid, gid, []uint32{gid}
		if u, err := user.LookupId(strconv.FormatUint(uint64(uid), 10)); err == nil {
			a.Name = u.Username
		} else if f := getent("passwd", strconv.FormatUint(uint64(uid), 10)); len(f) >= 4 {
			a.Name = f[0]
		}
		return a
	}
	name, uid, gid, err := userIDs(s.RunAs)
	if err != nil {
		a.Why = err.Error()
		a.Missing = errors.As(err, new(errNoAccount))
		return a
	}
	a.Name, a.Known, a.UID, a.GID, a.Groups = name, true, uid, gid, []uint32{gid}
	for _, g := range groupsOf(name) {
		if !slices.Contains(a.Groups, g) {
			a.Groups = append(a.Groups, g)
		}
	}
	return a
}

// userIDs finds an account in the files or, where getent is there, in whatever
// directory service the machine asks.
func userIDs(name string) (found string, uid, gid uint32, err error) {
	var texts [2]string
	u, err := user.Lookup(name)
	switch {
	case err == nil:
		found, texts = u.Username, [2]string{u.Uid, u.Gid}
	default:
		f := getent("passwd", name)
		if len(f) < 4 {
			var unknown user.UnknownUserError
			if errors.As(err, &unknown) {
				err = errNoAccount(name)
			}
			return "", 0, 0, err
		}
		found, texts = f[0], [2]string{f[2], f[3]}
	}
	a, aerr := strconv.ParseUint(texts[0], 10, 32)
	b, berr := strconv.ParseUint(texts[1], 10, 32)
	return found, uint32(a), uint32(b), errors.Join(aerr, berr)
}

// groupsOf gives the groups of an account, from the files and from id(1), which
// asks directory services too.
func groupsOf(name string) []uint32 {
	var texts []string
	if u, err := user.Lookup(name); err == nil {
		texts, _ = u.GroupIds() // without them there is the primary group
	}
	if _, err := exec.LookPath("getent"); err == nil {
		texts = append(texts, strings.Fields(ask("id", "-G", "--", name))...)
	}
	var out []uint32
	for _, t := range texts {
		if n, err := strconv.ParseUint(t, 10, 32); err == nil && !slices.Contains(out, uint32(n)) {
			out = append(out, uint32(n))
		}
	}
	return out
}

func groupID(name string) (uint32, bool) {
	text := ""
	if g, err := user.LookupGroup(name); err == nil {
		text = g.Gid
	} else if f := getent("group", name); len(f) >= 3 {
		text = f[2]
	}
	n, err := strconv.ParseUint(text, 10, 32)
	return uint32(n), err == nil
}

// GroupName gives the name of a group, or nothing.
func GroupName(gid uint32) string {
	n := strconv.FormatUint(uint64(gid), 10)
	if g, err := user.LookupGroupId(n); err == nil {
		return g.Name
	}
	if f := getent("group", n); len(f) >= 3 {
		return f[0]
	}
	return ""
}

// getent asks for one entry of a database of names; nothing where there is none,
// or no getent.
func getent(database, key string) []string {
	if _, err := exec.LookPath("getent"); err != nil {
		return nil
	}
	line, _, _ := strings.Cut(ask("getent", database, "--", key), "\n")
	if line == "" {
		return nil
	}
	return strings.Split(line, ":")
}

// ask runs a program that only answers, with a bound on its time: a directory
// service may be far away.
func ask(name string, args ...string) string {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	c := exec.CommandContext(ctx, name, args...)
	c.WaitDelay = time.Second
	out, err := c.Output()
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}

// Propose proposes an account of its own for the household's server: its name,
// the groups that the shelves need, and how to make it here.
func Propose(h *household.Household) *facts.Proposal {
	p := &facts.Proposal{Name: household.DefaultAccount}
	if _, _, ok := h.Server.IDs(); !ok && h.Server.RunAs != "" {
		p.Name = h.Server.RunAs
	}
	// Nobody yet: no number and no group that any file could have.
	nobody := permit.Identity{UID: 1<<32 - 3, Groups: []uint32{1<<32 - 3}}
	for _, s := range h.Shelves {
		need := permit.Need{Write: s.Access == household.Change}
		for _, f := range s.Folders {
			r, err := Audit(f, nobody, need)
			if err != nil || len(r.Problems) == 0 {
				continue
			}
			list, _, err := Enough(r, nobody, permit.Who{}, need)
			if err != nil {
				continue
			}
			for _, m := range list {
				if m.Kind == permit.Join && !slices.Contains(p.Groups, m.Subject) {
					p.Groups = append(p.Groups, m.Subject)
				}
			}
		}
	}
	slices.Sort(p.Groups)
	p.Commands = makeAccount(p.Name, p.Groups)
	for _, g := range p.Groups {
		if GroupName(g) == "" {
			p.Nameless = append(p.Nameless, g)
		}
	}
	return p
}

// makeAccount gives the commands that make an account with no login and no home,
// with the programs that are here; none where there are none. Groups that have no name here
// are left out: those programs know none of them.
func makeAccount(name string, groups []uint32) []string {
	var names []string
	for _, g := range groups {
		if n := GroupName(g); n != "" {
			names = append(names, n)
		}
	}
	nologin := "/bin/false"
	for _, p := range []string{"/usr/sbin/nologin", "/sbin/nologin"} {
		if _, err := os.Stat(p); err == nil {
			nologin = p
			break
		}
	}
	switch {
	case has("useradd"):
		c := fmt.Sprintf("useradd --system --user-group --no-create-home --home-dir /nonexistent --shell %s", nologin)
		if len(names) > 0 {
			c += " --groups " + strings.Join(names, ",")
		}
		return []string{c + " " + permit.Quote(name)}
	case has("adduser") && has("addgroup"): // as BusyBox has them
		out := []string{"addgroup -S " + permit.Quote(name),
			fmt.Sprintf("adduser -S -D -H -h /nonexistent -s %s -G %s %s", nologin, permit.Quote(name),
				permit.Quote(name))}
		for _, n := range names {
			out = append(out, fmt.Sprintf("addgroup %s %s", permit.Quote(name), n))
		}
		return out
	}
	return nil
}

func has(program string) bool {
	_, err := exec.LookPath(program)
	return err == nil
}

// ErrNoTool says that this machine has none of the programs that would be needed.
var ErrNoTool = errors.New("this machine has no program for it that is known here")

// MakeAccount makes an account as proposed.
func MakeAccount(p facts.Proposal) error {
	if len(p.Commands) == 0 {
		return ErrNoTool
	}
	for _, c := range p.Commands {
		if err := do(strings.Fields(c)); err != nil {
			return err
		}
	}
	return nil
}

// RestoreAccount makes an account again that RemoveAccount removed, with the numbers that it
// had.
func RestoreAccount(name string, uid, gid uint32, groups []uint32) error {
	if found, u, g, err := userIDs(name); err == nil {
		if u == uid && g == gid {
			return nil
		}
		return fmt.Errorf("there is an account %s already, with the numbers %d:%d", found, u, g)
	}
	u, g := strconv.FormatUint(uint64(uid), 10), strconv.FormatUint(uint64(gid), 10)
	list := makeAccount(name, groups)
	if len(list) == 0 {
		return ErrNoTool
	}
	first := strings.Fields(list[0])
	if first[0] == "useradd" {
		if GroupName(gid) == "" {
			if err := do([]string{"groupadd", "--system", "--gid", g, name}); err != nil {
				return err
			}
		}
		words := slices.DeleteFunc(first[1:], func(w string) bool { return w == "--user-group" })
		return do(slices.Concat([]string{"useradd", "--uid", u, "--gid", g}, words))
	}
	for i, c := range list {
		words := strings.Fields(c)
		switch {
		case i == 0:
			words = slices.Concat([]string{"addgroup", "-g", g}, words[1:])
		case words[0] == "adduser":
			words = slices.Concat([]string{"adduser", "-u", u}, words[1:])
		}
		if err := do(words); err != nil {
			return err
		}
	}
	return nil
}

// RemoveAccount removes an account that MakeAccount made; one that is not there
// is no error.
func RemoveAccount(name string) error {
	if _, _, _, err := userIDs(name); err != nil {
		return nil
	}
	switch {
	case has("userdel"):
		return do([]string{"userdel", name})
	case has("deluser"):
		return do([]string{"deluser", name})
	}
	return ErrNoTool
}

// JoinGroup adds an account to a group of this machine, LeaveGroup takes it out.
func JoinGroup(name string, gid uint32) error {
	group := GroupName(gid)
	switch {
	case group == "":
		return fmt.Errorf("group %d has no name here, so no account can be added to it; write it as a number into "+
			"groups under [server]", gid)
	case has("usermod"):
		return do([]string{"usermod", "-aG", group, name})
	case has("addgroup"):
		return do([]string{"addgroup", name, group})
	}
	return ErrNoTool
}

// LeaveGroup takes an account out of a group.
func LeaveGroup(name string, gid uint32) error {
	group := GroupName(gid)
	switch {
	case group == "" || !slices.Contains(groupsOf(name), gid):
		return nil
	case has("gpasswd"):
		return do([]string{"gpasswd", "-d", name, group})
	case has("delgroup"):
		return do([]string{"delgroup", name, group})
	}
	return ErrNoTool
}

func do(args []string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, args[0], args[1:]...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", strings.Join(args, " "), err, strings.TrimSpace(string(out)))
	}
	return nil
}
