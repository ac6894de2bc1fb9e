package allowance

import (
	"hash/maphash"
	"net/netip"
	"sync"
	"time"
)

// Attempts bounds how often a sign-in may be tried. An attempt is counted before anything
// is done for it, so that many at once are no way round; one that succeeds, or was never
// made, is given back.
//
// # What is counted
//
// Attempts for one member from one network: that stops guessing, and keeps nobody else of
// the household out, even where all share one address. And attempts for one member from
// everywhere, more generously, against guessing from many networks. Outside the home attempts
// for all members from one network are counted, too: whoever tries names in turn locks that
// network out for a while. A device that a member
// has signed in on before is counted by itself, so nobody can lock its owner out.
//
// Each is a bucket: a number of attempts at once, then one more after each pause. Nobody
// waits longer than Longest. Keys are hashed, and there is a bound to how many are kept, so
// that strangers cannot make the server remember much.
type Attempts struct {
	mu      sync.Mutex
	buckets map[uint64]bucket
	seed    maphash.Seed
}

// Longest is how long anybody may have to wait for the next attempt.
const Longest = 15 * time.Minute

// bucket is how much of a bound is used up.
type bucket struct {
	used float64
	at   time.Time
}

// bound is how much a key allows.
type bound struct {
	burst float64       // attempts at once
	pause time.Duration // after which one is forgiven
}

var (
	fromOne  = bound{8, time.Minute}       // for a member from a network
	fromAll  = bound{40, 20 * time.Second} // for a member from everywhere
	fromAway = bound{20, 2 * time.Minute}  // for all members, from a network outside the home
	onDevice = bound{10, time.Minute}      // on a device of the member's own
)

// maxKeys bounds the memory that strangers can make us use: about 40 bytes each.
const maxKeys = 20000

// Attempt is one that is counted.
type Attempt struct {
	// Recent is how many were made lately, with this one.
	Recent float64

	of   *Attempts
	keys []uint64
}

// Network gives the network that an address counts as: of IPv6 the first 64 bits, since
// one line has all addresses of it.
func Network(a netip.Addr) netip.Addr {
	a = a.Unmap().WithZone("")
	if a.Is4() {
		return a
	}
	p, err := a.Prefix(64)
	if err != nil {
		return a
	}
	return p.Addr()
}

// Take counts an attempt to sign in as a member, from an address; device is the id of a
// device on which this member has signed in before, 0 for none. Where it must not be made
// yet, nothing is counted, and wait says how long from now.
func (l *Attempts) Take(member string, from netip.Addr, device int64, now time.Time) (a Attempt, wait time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.buckets == nil {
		l.buckets, l.seed = map[uint64]bucket{}, maphash.MakeSeed()
	}
	type want struct {
		key uint64
		bound
	}
	var wants []want
	if device != 0 {
		wants = append(wants, want{maphash.Comparable(l.seed, device), onDevice})
	} else {
		type pair struct {
			member string
			from   netip.Addr
		}
		wants = append(wants, want{maphash.Comparable(l.seed, pair{member, Network(from)}), fromOne},
			want{maphash.String(l.seed, member), fromAll})
		if !AtHome(from) {
			wants = append(wants, want{maphash.Comparable(l.seed, Network(from)), fromAway})
		}
	}
	for _, w := range wants {
		if over := l.used(w.key, w.bound, now) + 1 - w.burst; over > 0 {
			wait = max(wait, min(Longest, time.Duration(over*float64(w.pause))))
		}
	}
	if wait > 0 {
		return a, wait
	}
	for _, w := range wants {
		if len(l.buckets) >= maxKeys {
			l.forget(now)
		}
		used := l.used(w.key, w.bound, now) + 1
		l.buckets[w.key] = bucket{used, now}
		a.Recent = max(a.Recent, used)
		a.keys = append(a.keys, w.key)
	}
	a.of = l
	return a, 0
}

// Back gives an attempt back: it succeeded, or nothing was tried.
func (a Attempt) Back() {
	if a.of == nil {
		return
	}
	a.of.mu.Lock()
	defer a.of.mu.Unlock()
	for _, k := range a.keys {
		if b, ok := a.of.buckets[k]; ok {
			b.used = max(0, b.used-1)
			a.of.buckets[k] = b
		}
	}
}

// Forgive forgets what was tried before it: the member is there.
func (a Attempt) Forgive() {
	if a.of == nil {
		return
	}
	a.of.mu.Lock()
	defer a.of.mu.Unlock()
	// What was tried from elsewhere stays counted.
	delete(a.of.buckets, a.keys[0])
	for _, k := range a.keys[1:] {
		if b, ok := a.of.buckets[k]; ok {
			b.used = max(0, b.used-1)
			a.of.buckets[k] = b
		}
	}
}

// used is how much of a bucket is used up now. A clock that was set back forgives nothing.
func (l *Attempts) used(key uint64, b bound, now time.Time) float64 {
	k := l.buckets[key]
	if passed := now.Sub(k.at); passed > 0 {
		return max(0, k.used-float64(passed)/float64(b.pause))
	}
	return k.used
}

// forget drops what is forgiven by now; should that not be enough, any.
func (l *Attempts) forget(now time.Time) {
	for k, b := range l.buckets {
		if now.Sub(b.at) > Longest {
			delete(l.buckets, k)
		}
	}
	for k := range l.buckets {
		if len(l.buckets) < maxKeys*9/10 { // some room, not to do this each time
			break
		}
		delete(l.buckets, k)
	}
}
