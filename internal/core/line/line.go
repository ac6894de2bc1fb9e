// Package line decides what a name should stand for: which address of an interface the line's is, when a record is
// to be written, and what is wrong where the name stands for something else.
package line

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/verdict"
)

// Held is an address that an interface has.
type Held struct {
	Addr      netip.Addr
	Temporary bool // made to be changed soon (RFC 8981)
	Old       bool // still there, but not for new connections: its prefix was changed
	Trying    bool // not known yet whether somebody else has it
}

// Flags of addresses as Linux shows them.
const (
	flagTemporary = 0x01
	flagFailed    = 0x08
	flagOld       = 0x20
	flagTrying    = 0x40
)

// ReadHeld reads the IPv6 addresses of an interface from the kernel's list (/proc/net/if_inet6).
func ReadHeld(list []byte, name string) (out []Held) {
	lines := bufio.NewScanner(bytes.NewReader(list))
	for lines.Scan() {
		f := strings.Fields(lines.Text())
		if len(f) != 6 || f[5] != name {
			continue
		}
		raw, err := hex.DecodeString(f[0])
		flags, wrong := strconv.ParseUint(f[4], 16, 16)
		a, ok := netip.AddrFromSlice(raw)
		if err != nil || wrong != nil || !ok || !a.Is6() {
			continue
		}
		out = append(out, Held{Addr: a, Temporary: flags&flagTemporary != 0, Old: flags&flagOld != 0,
			Trying: flags&(flagTrying|flagFailed) != 0})
	}
	return out
}

// Own chooses the address of an interface that a name should stand for: one that stays, and the one from before as
// long as it may be used. good tells which are reached from outside; invalid where there is none.
func Own(list []Held, before netip.Addr, good func(netip.Addr) bool) (best netip.Addr) {
	list = slices.DeleteFunc(slices.Clone(list), func(h Held) bool {
		return h.Temporary || h.Old || h.Trying || !good(h.Addr)
	})
	for i, h := range list {
		if h.Addr == before {
			return before
		}
		if i == 0 || h.Addr.Less(best) {
			best = h.Addr
		}
	}
	return best
}

// Agreed gives the one address that all answers name; invalid, with why, where they do not.
func Agreed(answers map[string]netip.Addr) (a netip.Addr, why string) {
	for _, of := range slices.Sorted(keys(answers)) {
		if a.IsValid() && a != answers[of] {
			return netip.Addr{}, list(answers)
		}
		a = answers[of]
	}
	return a, ""
}

func keys[V any](m map[string]V) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

func list(answers map[string]netip.Addr) string {
	var out []string
	for _, of := range slices.Sorted(keys(answers)) {
		out = append(out, fmt.Sprintf("%s as %s sees it", answers[of], of))
	}
	return strings.Join(out, ", ")
}

// Seen is what was found of one family of addresses.
type Seen struct {
	Line   netip.Addr   // the line's; invalid where it is not known, or has none
	Stands []netip.Addr // what the name stands for
	Sent   netip.Addr   // what was written last for it
	SentAt time.Time
	Gone   time.Time // since when the line has no such address; zero where it has, or that is new
}

// Step is what is to be done about a record.
type Step string

// The steps.
const (
	Leave  Step = "leave"
	Write  Step = "write"
	Remove Step = "remove" // it says what we wrote, and the line has no such address any more
)

// Patience is how long others may know an old record: what is written anew at an address of theirs is not written
// once more before.
const Patience = time.Hour

// Decide says what is to be done about a record. At the zone's own name server what stands there is true at once; else
// what was written takes its time.
func (s Seen) Decide(own bool, now time.Time) Step {
	right := len(s.Stands) == 1 && s.Stands[0] == s.Line
	switch {
	case s.Line.IsValid() && right:
		return Leave
	case s.Line.IsValid():
		if !own && s.Sent == s.Line && now.Sub(s.SentAt) < Patience && !now.Before(s.SentAt) {
			return Leave
		}
		return Write
	case own && s.Sent.IsValid() && slices.Equal(s.Stands, []netip.Addr{s.Sent}) && !s.Gone.IsZero() &&
		now.Sub(s.Gone) >= Patience:
		return Remove
	}
	return Leave
}

// Pause is how long to wait for the next look after so many failures.
func Pause(failures int) time.Duration {
	const usual = 5 * time.Minute
	if failures == 0 {
		return usual
	}
	return min(30*time.Second<<min(failures, 10), time.Hour)
}

// Report tells how it is with the name.
type Report struct {
	Name    string    `json:"name"`
	Keep    string    `json:"keep"`
	Learn   string    `json:"learn"`
	Line    []string  `json:"line"`                 // the line's addresses
	Stands  []string  `json:"stands_for"`           // what the name stands for
	Looked  time.Time `json:"looked_at,omitzero"`   // when that was found
	Written time.Time `json:"written_at,omitzero"`  // when a record was written last
	Next    time.Time `json:"next_at,omitzero"`     // when it is looked again
	Problem string    `json:"problem,omitempty"`    // what went wrong
	Hidden  []string  `json:"not_public,omitempty"` // addresses that were learnt, but that nobody outside reaches
}

// carrier is the range of addresses that providers share among their customers (RFC 6598).
var carrier = netip.MustParsePrefix("100.64.0.0/10")

func isIPv6(address string) bool { return strings.Contains(address, ":") }

func shared(address string) bool {
	a, err := netip.ParseAddr(address)
	return err == nil && carrier.Contains(a)
}

// Judge judges whether the name stands for the line.
func (r Report) Judge(now time.Time) verdict.Line {
	l := verdict.Line{What: "record", Status: verdict.OK}
	var elsewhere, open []string
	for _, a := range r.Stands {
		switch {
		case slices.Contains(r.Line, a):
		case slices.ContainsFunc(r.Line, func(b string) bool { return isIPv6(a) == isIPv6(b) }):
			elsewhere = append(elsewhere, a)
		default:
			open = append(open, a)
		}
	}
	switch {
	case r.Looked.IsZero():
		l.Status, l.Says = verdict.Warning, "it was not looked yet what "+r.Name+" stands for"
		l.Do = "wait a moment"
	case len(r.Line) == 0 && slices.ContainsFunc(r.Hidden, shared):
		l.Status, l.Says = verdict.Blocked, fmt.Sprintf("the line shares its address with others of the provider (%s)",
			text(r.Hidden))
		l.Do = "ask the provider for an address of your own, or for IPv6"
	case len(r.Line) == 0 && len(r.Hidden) > 0:
		l.Status, l.Says = verdict.Blocked,
			fmt.Sprintf("the address that was learnt, %s, is one of a home: nobody outside reaches it",
				text(r.Hidden))
		l.Do = "learn it from outside, with learn = \"stun\" under [remote.name]"
	case len(r.Line) == 0:
		l.Status, l.Says = verdict.Blocked, "the line's address is not known: "+r.Problem
		l.Do = map[string]string{household.LearnSTUN: "see that the servers under stun answer",
			household.LearnInterface: "name the interface with the line's address under [remote.name]"}[r.Learn]
	case len(r.Stands) == 0:
		l.Status, l.Says = verdict.Blocked, fmt.Sprintf("%s has no address; the line's is %s", r.Name, text(r.Line))
		l.Do = r.remedy()
	case len(elsewhere) > 0 && len(elsewhere)+len(open) == len(r.Stands):
		l.Status, l.Says = verdict.Blocked, fmt.Sprintf("%s stands for %s; the line's address is %s", r.Name,
			text(r.Stands), text(r.Line))
		l.Do = r.remedy()
	case len(elsewhere) > 0:
		l.Status, l.Says = verdict.Warning, fmt.Sprintf("%s also stands for %s, which is not the line's", r.Name,
			text(elsewhere))
		l.Do = "take that record away where it was made"
	case len(open) == len(r.Stands):
		family := map[bool]string{true: "IPv6", false: "IPv4"}[isIPv6(r.Line[0])]
		l.Status, l.Says = verdict.Warning, fmt.Sprintf("%s has no %s address; the line's is %s", r.Name, family,
			text(r.Line))
		l.Do = r.remedy()
	case r.Problem != "":
		l.Status, l.Says = verdict.Warning, fmt.Sprintf("%s stands for %s, the line's address; %s", r.Name,
			text(r.Stands),
			r.Problem)
		l.Do = "see to it before the address changes"
	default:
		l.Says = fmt.Sprintf("%s stands for %s, the line's address", r.Name, text(r.Stands))
	}
	if l.Status == verdict.Blocked && r.Problem != "" && !strings.Contains(l.Says, r.Problem) {
		l.Details = append(l.Details, r.Problem)
	}
	if len(open) > 0 && len(r.Line) > 0 {
		l.Details = append(l.Details, fmt.Sprintf("of %s it could not be learnt whether it is the line's", text(open)))
	}
	return l
}

func (r Report) remedy() string {
	switch {
	case r.Keep == household.KeepNone:
		return "change the record where the name was bought, or have it kept right under [remote.name]"
	case r.Problem != "":
		return "see why it cannot be written; it is tried again by itself"
	}
	return "wait: what was written takes up to an hour to be known everywhere"
}

func text(addresses []string) string { return strings.Join(addresses, " and ") }

// Texts gives addresses as text.
func Texts(list []netip.Addr) []string {
	out := []string{}
	for _, a := range list {
		out = append(out, a.String())
	}
	return out
}
