package machine

import (
	"errors"
	"fmt"
	"os/user"
	"slices"
	"strconv"

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
			g, err := user.LookupGroup(name)
			if err != nil {
				a.Known, a.Why = false, fmt.Sprintf("there is no group %q", name)
				return a
			}
			n, err := strconv.ParseUint(g.Gid, 10, 32)
			if err != nil {
				a.Known, a.Why = false, err.Error()
				return a
			}
			gid = uint32(n)
		}
		if !slices.Contains(a.Groups, gid) {
			a.Groups = append(a.Groups, gid)
		}
	}
	return a
}

// Who names an account for the commands of remedies.
func Who(a facts.Account) permit.Who {
	return permit.Who{Name: a.Name, UID: a.UID, Groups: append([]uint32{a.GID}, a.Groups...)}
}

func account(s household.Server) facts.Account {
	a := facts.Account{Asked: s.RunAs}
	if uid, gid, ok := s.IDs(); ok {
		a.Known, a.UID, a.GID, a.Groups = true, uid, gid, []uint32{gid}
		if u, err := user.LookupId(strconv.FormatUint(uint64(uid), 10)); err == nil {
			a.Name = u.Username
		}
		return a
	}
	u, err := user.Lookup(s.RunAs)
	if err != nil {
		a.Why = err.Error()
		var unknown user.UnknownUserError
		if errors.As(err, &unknown) {
			a.Why = fmt.Sprintf("there is no account %q", s.RunAs)
		}
		return a
	}
	a.Name = u.Username
	uid, uerr := strconv.ParseUint(u.Uid, 10, 32)
	gid, gerr := strconv.ParseUint(u.Gid, 10, 32)
	if err := errors.Join(uerr, gerr); err != nil {
		a.Why = err.Error()
		return a
	}
	a.Known, a.UID, a.GID, a.Groups = true, uint32(uid), uint32(gid), []uint32{uint32(gid)}
	ids, err := u.GroupIds()
	if err != nil {
		a.Why = err.Error()
	}
	for _, id := range ids {
		if n, err := strconv.ParseUint(id, 10, 32); err == nil && uint32(n) != a.GID {
			a.Groups = append(a.Groups, uint32(n))
		}
	}
	return a
}
