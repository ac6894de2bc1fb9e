// Package name keeps the record of a household's name right: it learns the line's address, looks what the name
// stands for, and writes the record where it differs.
package name

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/line"
	"cozyshelf/internal/outside"
	"cozyshelf/internal/remote/nameserver"
	"cozyshelf/internal/remote/stun"

	"github.com/miekg/dns"
)

// Memory is what a keeper needs of the store.
type Memory interface {
	Remembered(ctx context.Context, name string) (string, error)
	Remember(ctx context.Context, name, text string) (before string, err error)
}

// Options are what a keeper works with.
type Options struct {
	Host   string // the name
	From   household.RemoteName
	Secret func() (string, error) // what the file of secret holds
	Memory Memory
	Log    *slog.Logger
	Tell   func(event.Event)
	Good   func(netip.Addr) bool // which addresses are reached from outside; outside.Public where nil
}

// Keeper keeps the record of a name.
type Keeper struct {
	Options
	kick chan struct{}

	mu       sync.Mutex
	report   line.Report
	failures int
	told     string               // the problem that was told of
	gone     map[string]time.Time // since when the line has no address of a family
}

// families are those of addresses, with their records.
var families = []struct {
	name, network string
	kind          uint16
	is            func(netip.Addr) bool
}{{"ipv4", "udp4", dns.TypeA, netip.Addr.Is4}, {"ipv6", "udp6", dns.TypeAAAA, netip.Addr.Is6}}

// New makes a keeper.
func New(o Options) *Keeper {
	if o.Good == nil {
		o.Good = outside.Public
	}
	return &Keeper{Options: o, kick: make(chan struct{}, 1), gone: map[string]time.Time{},
		report: line.Report{Name: o.Host, Keep: o.From.Keep, Learn: o.From.Learn, Line: []string{},
			Stands: []string{}}}
}

// Report tells how it is with the name.
func (k *Keeper) Report() line.Report {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.report
}

// Run looks at the name until the context ends.
func (k *Keeper) Run(ctx context.Context) {
	for ctx.Err() == nil {
		pause := k.Look(ctx)
		select {
		case <-ctx.Done():
		case <-k.kick:
		case <-time.After(pause):
		}
	}
}

// Kick has it looked at soon.
func (k *Keeper) Kick() {
	select {
	case k.kick <- struct{}{}:
	default:
	}
}

// lookTime is how long one look may take.
const lookTime = time.Minute

// Look learns the line's address, and writes the record where it differs. It gives how long to wait for the next time.
func (k *Keeper) Look(ctx context.Context) time.Duration {
	within, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	now := time.Now()
	r := line.Report{Name: k.Host, Keep: k.From.Keep, Learn: k.From.Learn, Line: []string{},
		Stands: []string{}, Looked: now}
	seen, hidden, problems := k.learn(within)
	r.Hidden = line.Texts(hidden)
	for _, f := range families {
		if a := seen[f.name]; a.IsValid() {
			r.Line = append(r.Line, a.String())
			delete(k.gone, f.name)
		} else if k.gone[f.name].IsZero() {
			k.gone[f.name] = now
		}
	}
	switch {
	case len(r.Line)+len(r.Hidden) > 0: // one that is found is enough, but for those who disagree
		problems = slices.DeleteFunc(problems, func(err error) bool { return !errors.Is(err, errDisagree) })
	case len(problems) > 1:
		problems = problems[:1] // that of IPv4, which most have
	}
	stands, err := k.stands(within)
	written := false
	switch {
	case err != nil:
		problems = append(problems, err)
	case len(r.Line) > 0:
		if written, err = k.write(within, seen, stands, now); err != nil {
			problems = append(problems, err)
		}
		if again, err := k.stands(within); written && err == nil {
			stands = again
		}
	}
	for _, f := range families {
		r.Stands = append(r.Stands, line.Texts(stands[f.name])...)
	}
	if ctx.Err() != nil {
		return time.Second // the server ends: that is no fault
	}
	if err := errors.Join(problems...); err != nil {
		r.Problem = strings.ReplaceAll(err.Error(), "\n", "; ")
	}
	return k.settle(r, written, now)
}

// settle notes what was found, and tells of what is new.
func (k *Keeper) settle(r line.Report, written bool, now time.Time) time.Duration {
	k.mu.Lock()
	defer k.mu.Unlock()
	r.Written = k.report.Written
	if written {
		r.Written = now
	}
	if r.Problem == "" {
		k.failures = 0
	} else {
		k.failures++
	}
	pause := line.Pause(k.failures)
	r.Next = now.Add(pause)
	k.report = r
	if written {
		k.Log.Info("the name's record was written", "name", k.Host, "line", strings.Join(r.Line, " and "))
		k.Tell(event.NameMoved{Host: k.Host, Address: strings.Join(r.Line, " and ")})
	}
	if r.Problem != k.told {
		if r.Problem != "" {
			k.Log.Warn("the name's record could not be looked after", "name", k.Host, "why", r.Problem)
		}
		k.told = r.Problem
	}
	if k.failures == failuresTold {
		k.Tell(event.NameFails{Host: k.Host, Why: r.Problem})
	}
	return pause
}

// failuresTold is after how many failures in a row somebody is told: a quarter of an hour of them.
const failuresTold = 5

// learn finds the line's addresses by family, and those that nobody outside reaches.
func (k *Keeper) learn(ctx context.Context) (found map[string]netip.Addr, hidden []netip.Addr, problems []error) {
	found = map[string]netip.Addr{}
	for _, f := range families {
		var a netip.Addr
		var err error
		switch k.From.Learn {
		case household.LearnInterface:
			a, err = k.ofInterface(ctx, f.name, f.is, &hidden)
		default:
			a, err = k.bySTUN(ctx, f.network)
			if a.IsValid() && !k.Good(a) {
				hidden = append(hidden, a)
				a = netip.Addr{}
			}
		}
		if err != nil {
			problems = append(problems, err)
		}
		found[f.name] = a
	}
	return found, hidden, problems
}

var errDisagree = errors.New("those who were asked see different addresses")

// bySTUN asks all servers at once over IPv4 or IPv6.
func (k *Keeper) bySTUN(ctx context.Context, network string) (netip.Addr, error) {
	var mu sync.Mutex
	answers, faults := map[string]netip.Addr{}, map[string]error{}
	var all sync.WaitGroup
	for _, server := range k.From.STUN {
		all.Go(func() {
			a, err := stun.Ask(ctx, network, server)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				faults[server] = err
				return
			}
			answers[server] = a
		})
	}
	all.Wait()
	if len(answers) == 0 {
		for _, server := range slices.Sorted(maps.Keys(faults)) {
			return netip.Addr{}, faults[server] // one is enough
		}
	}
	a, why := line.Agreed(answers)
	if why != "" {
		return netip.Addr{}, fmt.Errorf("%w: %s", errDisagree, why)
	}
	return a, nil
}

// listOfIPv6 is the kernel's, of the network that this thread is in.
const listOfIPv6 = "/proc/thread-self/net/if_inet6"

// ofInterface finds the address of a family that an interface has.
func (k *Keeper) ofInterface(ctx context.Context, family string, is func(netip.Addr) bool,
	hidden *[]netip.Addr) (netip.Addr, error) {
	i, err := net.InterfaceByName(k.From.Interface)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("there is no interface %s where the server is", k.From.Interface)
	}
	var list []line.Held
	if family == "ipv6" {
		b, err := os.ReadFile(listOfIPv6)
		if err != nil && !errors.Is(err, os.ErrNotExist) { // a kernel without it
			return netip.Addr{}, err
		}
		list = line.ReadHeld(b, i.Name)
	} else {
		addresses, err := i.Addrs()
		if err != nil {
			return netip.Addr{}, err
		}
		for _, a := range addresses {
			if p, err := netip.ParsePrefix(a.String()); err == nil && is(p.Addr()) {
				list = append(list, line.Held{Addr: p.Addr()})
			}
		}
	}
	sent, _, err := k.sent(ctx, family)
	if err != nil {
		return netip.Addr{}, err
	}
	a := line.Own(list, sent, k.Good)
	if !a.IsValid() {
		for _, h := range list {
			if !h.Addr.IsLinkLocalUnicast() {
				*hidden = append(*hidden, h.Addr)
			}
		}
	}
	return a, nil
}

// stands finds what the name stands for, by family: at its own name server, or as everybody sees it.
func (k *Keeper) stands(ctx context.Context) (out map[string][]netip.Addr, err error) {
	out = map[string][]netip.Addr{}
	for _, f := range families {
		var list []netip.Addr
		if k.From.Keep == household.KeepDNS {
			list, err = nameserver.Server{Address: k.From.Nameserver}.Addresses(ctx, k.Host, f.kind)
		} else {
			list, err = net.DefaultResolver.LookupNetIP(ctx, "ip"+f.name[3:], k.Host)
			var none *net.DNSError
			if errors.As(err, &none) && none.IsNotFound {
				list, err = nil, nil
			}
		}
		if err != nil {
			return out, fmt.Errorf("what %s stands for cannot be looked up: %w", k.Host, err)
		}
		for i := range list {
			list[i] = list[i].Unmap()
		}
		slices.SortFunc(list, netip.Addr.Compare)
		out[f.name] = list
	}
	return out, nil
}

// write writes the records that differ, and reports whether there were any.
func (k *Keeper) write(ctx context.Context, lines map[string]netip.Addr, stands map[string][]netip.Addr,
	now time.Time) (written bool, err error) {
	if k.From.Keep == household.KeepNone {
		return false, nil
	}
	steps := map[string]line.Step{}
	for _, f := range families {
		sent, at, err := k.sent(ctx, f.name)
		if err != nil {
			return false, err
		}
		s := line.Seen{Line: lines[f.name], Stands: stands[f.name], Sent: sent, SentAt: at, Gone: k.gone[f.name]}
		if step := s.Decide(k.From.Keep == household.KeepDNS, now); step != line.Leave {
			steps[f.name] = step
		}
	}
	if len(steps) == 0 {
		return false, nil
	}
	secret, err := k.Secret()
	if err != nil {
		return false, err
	}
	if k.From.Keep == household.KeepDNS {
		err = k.update(ctx, secret, lines, steps)
	} else {
		err = k.ask(ctx, secret, lines, steps)
	}
	if err != nil {
		return false, err
	}
	for family := range steps {
		if err := k.note(ctx, family, lines[family], now); err != nil {
			return true, err
		}
	}
	return true, nil
}

// recordLife is how long others may keep the record.
const recordLife = 5 * time.Minute

// update writes records at the name server of the zone.
func (k *Keeper) update(ctx context.Context, secret string, lines map[string]netip.Addr,
	steps map[string]line.Step) error {
	s := nameserver.Server{Address: k.From.Nameserver}
	err := nameserver.ReadLines([]byte(secret), s.Key.Lines())
	if err == nil {
		err = s.Key.Check()
	}
	if err != nil {
		return fmt.Errorf("the file of secret under [remote.name]: %w", err)
	}
	zone := k.From.Zone
	if zone == "" {
		if zone, err = s.Zone(ctx, k.Host); err != nil {
			return err
		}
	}
	for _, f := range families {
		if steps[f.name] == "" {
			continue
		}
		var records []dns.RR
		a := lines[f.name]
		head := dns.RR_Header{Name: dns.Fqdn(k.Host), Rrtype: f.kind, Class: dns.ClassINET,
			Ttl: uint32(recordLife.Seconds())}
		switch {
		case steps[f.name] == line.Remove:
		case a.Is4():
			records = append(records, &dns.A{Hdr: head, A: a.AsSlice()})
		default:
			records = append(records, &dns.AAAA{Hdr: head, AAAA: a.AsSlice()})
		}
		if err := s.Set(ctx, zone, k.Host, f.kind, records...); err != nil {
			return err
		}
	}
	return nil
}

// key is under which it is remembered what was written last.
func (k *Keeper) key(family string) string { return "name " + family + " " + k.Host }

// sent gives what was written last, and when; invalid for nothing.
func (k *Keeper) sent(ctx context.Context, family string) (a netip.Addr, at time.Time, err error) {
	text, err := k.Memory.Remembered(ctx, k.key(family))
	if err != nil || text == "" {
		return a, at, err
	}
	address, when, _ := strings.Cut(text, " ")
	if a, err = netip.ParseAddr(address); err == nil {
		at, err = time.Parse(time.RFC3339, when)
	}
	if err != nil { // as if nothing was
		return netip.Addr{}, time.Time{}, nil
	}
	return a, at, nil
}

func (k *Keeper) note(ctx context.Context, family string, a netip.Addr, now time.Time) error {
	text := ""
	if a.IsValid() {
		text = a.String() + " " + now.UTC().Format(time.RFC3339)
	}
	_, err := k.Memory.Remember(ctx, k.key(family), text)
	return err
}
