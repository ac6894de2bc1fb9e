package name

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/line"
	"cozyshelf/internal/remote/nameserver"
	"cozyshelf/internal/store"
	"cozyshelf/internal/testbuild"

	"github.com/miekg/dns"
	"golang.org/x/sys/unix"
)

const host = "shelf.mill.example"

// kept is a keeper with a store and a log, and what it told.
type kept struct {
	*Keeper
	t    *testing.T
	log  *bytes.Buffer
	told []event.Event
}

func keep(t *testing.T, from household.RemoteName, secret string) *kept {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	k := &kept{t: t, log: &bytes.Buffer{}}
	k.Keeper = New(Options{Host: host, From: from, Memory: s, Log: slog.New(slog.NewTextHandler(k.log, nil)),
		Tell: func(e event.Event) { k.told = append(k.told, e) },
		Secret: func() (string, error) {
			if secret == "" {
				return "", errors.New("there is none")
			}
			return secret, nil
		},
		Good: func(a netip.Addr) bool { return !a.IsPrivate() && !a.IsLoopback() && !a.IsLinkLocalUnicast() }})
	return k
}

// look looks once, and compares what the name stands for then, and the problem.
func (k *kept) look(what, stands, problem string) line.Report {
	k.t.Helper()
	k.Look(k.t.Context())
	r := k.Report()
	if got := strings.Join(r.Stands, " and "); got != stands || problem == "" && r.Problem != "" ||
		!strings.Contains(r.Problem, problem) {
		k.t.Errorf("%s: it stands for %q, not %q; problem %q, not %q", what, got, stands, r.Problem, problem)
	}
	return r
}

const secret = "# of the name server\ntsig_name=" + testbuild.TSIGName + "\ntsig_secret=" + testbuild.TSIGSecret + "\n"

// TestTheRecordFollowsTheLine has two name servers, and a line whose address changes.
func TestTheRecordFollowsTheLine(t *testing.T) {
	for program, begin := range map[string]func() string{"BIND": func() string { return testbuild.BIND(t, "A AAAA") },
		"Knot": func() string { return testbuild.Knot(t) }} {
		t.Run(program, func(t *testing.T) {
			at, l := begin(), testbuild.STUN(t, "198.51.100.7")
			from := household.RemoteName{Keep: household.KeepDNS, Learn: household.LearnSTUN, STUN: []string{l.At},
				Nameserver: at}
			k := keep(t, from, secret)
			if r := k.look("first", "198.51.100.7", ""); r.Written.IsZero() || time.Until(r.Next) > 5*time.Minute {
				t.Errorf("%+v", r)
			}
			before := k.Report().Written
			if r := k.look("nothing new", "198.51.100.7", ""); !r.Written.Equal(before) {
				t.Errorf("it was written once more: %+v", r)
			}
			l.Says("198.51.100.8")
			k.look("another address", "198.51.100.8", "")
			if want := (event.NameMoved{Host: host, Address: "198.51.100.8"}); len(k.told) != 2 || k.told[1] != want {
				t.Errorf("told: %+v", k.told)
			}
			// Somebody else writes it over.
			s := nameserver.Server{Address: at, Key: nameserver.Key{Name: testbuild.TSIGName,
				Secret: testbuild.TSIGSecret}}
			if err := s.Set(t.Context(), "mill.example", host, dns.TypeA, a("192.0.2.9"),
				a("198.51.100.8")); err != nil {
				t.Fatal(err)
			}
			k.look("written over", "198.51.100.8", "")
			// An address of a provider's own, or of a home, is not written.
			l.Says("10.0.0.9")
			if r := k.look("of a home", "198.51.100.8", ""); len(r.Line) > 0 || len(r.Hidden) != 1 {
				t.Errorf("%+v", r)
			}
			l.Says("silent")
			k.look("no answer", "198.51.100.8", "does not answer")
			l.Says("198.51.100.9")
			wrong := keep(t, from, strings.Replace(secret, "tsig_secret=b", "tsig_secret=c", 1))
			wrong.look("a wrong key", "198.51.100.8", "it does not know the key")
			keep(t, from, "tsig_nmae=x").look("a misspelt key", "198.51.100.8", "is none of")
			keep(t, from, "").look("no key", "198.51.100.8", "there is none")
			elsewhere := from
			elsewhere.Zone = "example.net"
			keep(t, elsewhere, secret).look("another zone", "198.51.100.8", "refuses")
			if strings.Contains(k.log.String()+wrong.log.String(), testbuild.TSIGSecret) {
				t.Error("the log shows the key")
			}
		})
	}
}

func a(address string) dns.RR {
	return &dns.A{Hdr: dns.RR_Header{Name: dns.Fqdn(host), Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60},
		A: net.ParseIP(address)}
}

// TestFailuresAreToldOnce has no name server.
func TestFailuresAreToldOnce(t *testing.T) {
	l := testbuild.STUN(t, "198.51.100.7")
	k := keep(t, household.RemoteName{Keep: household.KeepDNS, Learn: household.LearnSTUN, STUN: []string{l.At},
		Nameserver: fmt.Sprintf("127.0.0.1:%d", testbuild.Port(t))}, secret)
	var pauses []time.Duration
	for range failuresTold + 3 {
		pauses = append(pauses, k.Look(t.Context()))
	}
	if !slices.IsSorted(pauses) || pauses[0] != time.Minute {
		t.Errorf("%v", pauses)
	}
	if len(k.told) != 1 {
		t.Errorf("told %+v", k.told)
	}
	if n := strings.Count(k.log.String(), "could not be looked after"); n != 1 {
		t.Errorf("logged %d times", n)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	before := k.failures
	if k.Look(ended); k.failures != before {
		t.Error("that the server ends counts as a failure")
	}
}

// TestThoseWhoDisagreeAreNotBelieved asks two, of which one lies.
func TestThoseWhoDisagreeAreNotBelieved(t *testing.T) {
	one, other := testbuild.STUN(t, "198.51.100.7"), testbuild.STUN(t, "198.51.100.66")
	k := keep(t, household.RemoteName{Keep: household.KeepDNS, Learn: household.LearnSTUN, STUN: []string{one.At,
		other.At},
		Nameserver: testbuild.BIND(t, "A")}, secret)
	k.look("they disagree", "127.0.0.1", "see different addresses")
	other.Says("silent")
	k.look("one is silent", "198.51.100.7", "")
}

// TestWhoeverKeepsTheNameIsAsked asks by an address.
func TestWhoeverKeepsTheNameIsAsked(t *testing.T) {
	l := testbuild.STUN(t, "198.51.100.7")
	var mu sync.Mutex
	var asked []string
	status := http.StatusOK
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		user, password, _ := r.BasicAuth()
		asked = append(asked, r.URL.RequestURI()+" "+user+" "+password)
		if status == http.StatusFound {
			http.Redirect(w, r, "/elsewhere", status)
			return
		}
		w.WriteHeader(status)
		fmt.Fprintf(w, "no: %s\x1b[31m", r.URL.Query().Get("key"))
	}))
	defer srv.Close()
	from := household.RemoteName{Keep: household.KeepWeb, Learn: household.LearnSTUN, STUN: []string{l.At},
		Address: srv.URL + "/set?host={name}&ip={address}&key={secret}", User: "wren"}
	k := keep(t, from, "p&q=1")
	last := func() string {
		mu.Lock()
		defer mu.Unlock()
		if len(asked) == 0 {
			return ""
		}
		return asked[len(asked)-1]
	}
	k.look("first", "", "")
	if want := "/set?host=shelf.mill.example&ip=198.51.100.7&key=p%26q%3D1 wren p&q=1"; last() != want {
		t.Errorf("%q instead of %q", last(), want)
	}
	k.look("it takes its time", "", "")
	if len(asked) != 1 {
		t.Errorf("asked %d times", len(asked))
	}
	l.Says("198.51.100.8")
	k.look("another address", "", "")
	if len(asked) != 2 || !strings.Contains(last(), "ip=198.51.100.8") {
		t.Errorf("%q", asked)
	}
	l.Says("198.51.100.9")
	for code, want := range map[int]string{http.StatusForbidden: "answers 403: no: …",
		http.StatusFound: "it leads elsewhere"} {
		mu.Lock()
		status = code
		mu.Unlock()
		r := k.look("refused", "", want)
		if strings.Contains(r.Problem, "p&q=1") || strings.Contains(r.Problem, "p%26q") || strings.Contains(r.Problem,
			"\x1b") {
			t.Errorf("it shows too much: %q", r.Problem)
		}
	}
	if strings.Contains(strings.Join(asked, " "), "elsewhere") {
		t.Errorf("the secret went elsewhere: %q", asked)
	}
}

// TestTheInterfaceIsLookedAt has an interface whose prefix changes, in a network of its own.
func TestTheInterfaceIsLookedAt(t *testing.T) {
	at := testbuild.BIND(t, "A AAAA")
	done := make(chan struct{})
	go func() { // a thread that is in another network is not used for anything else
		defer close(done)
		runtime.LockOSThread()
		home, err := unix.Open("/proc/thread-self/ns/net", unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err != nil {
			t.Error(err)
			return
		}
		defer unix.Close(home)
		if err := unix.Unshare(unix.CLONE_NEWNET); errors.Is(err, unix.EPERM) {
			testbuild.Missing(t, "the right to make networks")
		} else if err != nil {
			t.Error(err)
			return
		}
		ip := func(args string) {
			if out, err := exec.Command("ip", strings.Fields(args)...).CombinedOutput(); err != nil {
				t.Errorf("ip %s: %v %s", args, err, out)
			}
		}
		ip("link add line0 type veth peer name out0")
		ip("link set line0 up")
		ip("link set out0 up")
		ip("address add 198.51.100.7/24 dev line0")
		ip("address add fd00::7/64 dev line0 nodad")
		ip("address add 2001:db8:1::7/64 dev line0 nodad")
		k := keep(t, household.RemoteName{Keep: household.KeepDNS, Learn: household.LearnInterface, Interface: "line0",
			Nameserver: at}, secret)
		learn := func(what, want string) {
			found, _, problems := k.learn(t.Context())
			if got := found["ipv4"].String() + " " + found["ipv6"].String(); got != want || len(problems) > 0 {
				t.Errorf("%s: %s instead of %s, %v", what, got, want, problems)
			}
			if err := k.note(t.Context(), "ipv6", found["ipv6"], time.Now()); err != nil {
				t.Error(err)
			}
		}
		learn("first", "198.51.100.7 2001:db8:1::7")
		ip("address add 2001:db8:0:9::9/64 dev line0 nodad")
		learn("one comes beside it", "198.51.100.7 2001:db8:1::7")
		ip("address change 2001:db8:1::7/64 dev line0 preferred_lft 0")
		learn("the prefix is another", "198.51.100.7 2001:db8:0:9::9")
		ip("address del 198.51.100.7/24 dev line0")
		ip("address add 10.0.0.7/24 dev line0")
		if _, hidden, _ := k.learn(t.Context()); !slices.Contains(hidden, netip.MustParseAddr("10.0.0.7")) {
			t.Errorf("hidden: %v", hidden)
		}
		k.From.Interface = "none0"
		if _, _, problems := k.learn(t.Context()); len(problems) == 0 || !strings.Contains(problems[0].Error(),
			"none0") {
			t.Errorf("%v", problems)
		}
	}()
	<-done
}
