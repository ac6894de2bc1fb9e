// Package reach judges from what was seen whether a household's server is reached from outside by its address,
// and if not, why: names, certificates, what stands between, and whether that passes on what it must.
package reach

import (
	"cmp"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/verdict"
)

// Seen is what was found by asking the server by the address that people use from outside. What could not be
// asked any more, since something before it failed, is empty.
type Seen struct {
	Address string    `json:"address"`
	At      time.Time `json:"seen_at"`

	Addresses []string `json:"addresses"`            // of the name
	NameError string   `json:"name_error,omitempty"` // why it has none
	Given     bool     `json:"given"`                // it was said which address to ask, whatever the name stands for

	Certificate *Certificate `json:"certificate,omitempty"` // of an address with https
	Plain       *Plain       `json:"plain,omitempty"`       // what is answered without it

	Answer  *Answer  `json:"answer,omitempty"`
	Arrived *Arrival `json:"arrived,omitempty"` // how the question came to the server; nil where none did
	Claimed string   `json:"claimed,omitempty"` // the address that the question said it came from, in a header

	Ranges  *Trial   `json:"ranges,omitempty"`
	Upload  *Trial   `json:"upload,omitempty"`
	Events  *Trial   `json:"events,omitempty"`
	Patient *Trial   `json:"patient,omitempty"` // an answer that takes long
	Doubled []string `json:"doubled,omitempty"` // headers that came twice
}

// Certificate is what the address showed of itself.
type Certificate struct {
	Error   string    `json:"error,omitempty"`
	Fault   Fault     `json:"fault,omitempty"`
	Names   []string  `json:"names,omitempty"`
	Issuer  string    `json:"issuer,omitempty"`
	From    time.Time `json:"begins_at,omitzero"`
	Until   time.Time `json:"ends_at,omitzero"`
	Version string    `json:"version,omitempty"` // of TLS
	HTTP2   bool      `json:"http2"`
}

// Fault is what is wrong with a connection.
type Fault string

// The faults.
const (
	Unreachable Fault = "unreachable" // nothing answers: dropped on the way
	Refused     Fault = "refused"     // a machine is there, and nothing listens
	Untrusted   Fault = "untrusted"   // nobody vouches for the certificate
	WrongName   Fault = "wrong-name"  // it is for other names
	Expired     Fault = "expired"     // or not good yet
	NoTLS       Fault = "no-tls"      // what answers does not speak TLS
	Other       Fault = "other"
)

// Plain is what is answered over plain HTTP.
type Plain struct {
	Error    string `json:"error,omitempty"` // nothing listens, which is well, too
	Status   int    `json:"status,omitempty"`
	Location string `json:"location,omitempty"`
}

// Answer is that to the first question.
type Answer struct {
	Error  string `json:"error,omitempty"`
	Fault  Fault  `json:"fault,omitempty"`
	Status int    `json:"status,omitempty"`
	Server string `json:"server,omitempty"` // as what stands between calls itself
}

// Arrival is how a question came to the server.
type Arrival struct {
	Via       string `json:"via"`       // the other end of the connection
	Client    string `json:"client"`    // who it takes for the client
	Secure    bool   `json:"secure"`    // it takes it for HTTPS
	Host      string `json:"host"`      // by which name it was asked
	Forwarded int    `json:"forwarded"` // addresses in X-Forwarded-For
}

// Trial is something that was tried.
type Trial struct {
	Why  string  `json:"why,omitempty"` // it did not work; empty where it did
	Took float64 `json:"seconds"`
}

// What is warned of: a certificate that ends soon, and events that come late.
const soon = 14 * 24 * time.Hour

type judge struct {
	s     Seen
	lines []verdict.Line
}

func (j *judge) add(what string, s verdict.Status, do, format string, args ...any) {
	j.lines = append(j.lines, verdict.Line{What: what, Status: s, Says: fmt.Sprintf(format, args...), Do: do})
}

// Judge gives every judgement in the order in which a question travels. Trusted are the proxies that the
// household file trusts.
func Judge(s Seen, trusted []netip.Prefix) []verdict.Line {
	j := &judge{s: s}
	u, err := url.Parse(s.Address)
	if err != nil || u.Host == "" {
		j.add("address", verdict.Blocked, "write it under [remote] of the household file, such as address = "+
			"\"https://shelf.example.net\"", "there is no address for people outside")
		return j.lines
	}
	if !j.name(u) || !j.certificate(u) || !j.answer(u) {
		return j.lines
	}
	j.plain(u)
	j.arrival(u, trusted)
	j.trials()
	return j.lines
}

// name judges what the name stands for.
func (j *judge) name(u *url.URL) bool {
	if j.s.NameError != "" {
		j.add("name", verdict.Blocked, "make a record for it where the name was bought, of type A or AAAA",
			"%s is no name that anybody knows: %s", u.Hostname(), j.s.NameError)
		return false
	}
	words := j.s.Addresses
	var home int
	for _, text := range words {
		a, err := netip.ParseAddr(text)
		if err != nil || a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast() || carrier.Contains(a) {
			home++
		}
	}
	switch {
	case j.s.Given:
		j.add("name", verdict.OK, "", "not looked up: %s is asked", strings.Join(words, ", "))
	case len(words) == 0:
		j.add("name", verdict.Blocked, "make a record for it of type A or AAAA", "%s has no address", u.Hostname())
		return false
	case home == len(words):
		j.add("name", verdict.Warning, "from elsewhere look whether it stands for the line's address there",
			"%s stands for %s "+
				"as seen from here, which nobody outside reaches", u.Hostname(), strings.Join(words, ", "))
	default:
		j.add("name", verdict.OK, "", "%s stands for %s", u.Hostname(), strings.Join(words, ", "))
	}
	return true
}

// carrier is the range of addresses that providers share among their customers (RFC 6598).
var carrier = netip.MustParsePrefix("100.64.0.0/10")

// reachable tells of a connection that did not come about.
func (j *judge) reachable(what string, u *url.URL, fault Fault, why string) {
	port := u.Port()
	if port == "" {
		port = map[string]string{"https": "443", "http": "80"}[u.Scheme]
	}
	switch fault {
	case Unreachable:
		j.add(what, verdict.Blocked,
			"forward port "+port+" of the router to the proxy, and let the firewall pass it; from inside "+
				"some routers do not turn back to themselves, so try from elsewhere, too",
			"nothing answers at port %s: it is dropped on the way (%s)", port, why)
	case Refused:
		j.add(what, verdict.Blocked, "start what is to listen there, or forward the port to where it listens",
			"a machine is there, but nothing listens at port %s", port)
	default:
		j.add(what, verdict.Blocked, "see what stands at port "+port, "no connection comes about: %s", why)
	}
}

func (j *judge) certificate(u *url.URL) bool {
	c := j.s.Certificate
	switch {
	case u.Scheme != "https":
		j.add("certificate", verdict.Warning, "use an address with https: over plain HTTP anybody on the way reads passwords",
			"the address is plain HTTP")
		return true
	case c == nil:
		return false
	case c.Fault == "":
	case c.Fault == Unreachable, c.Fault == Refused:
		j.reachable("port", u, c.Fault, c.Error)
		return false
	case c.Fault == NoTLS:
		j.add("certificate", verdict.Blocked,
			"let what listens there speak HTTPS; a port of plain HTTP may have been forwarded",
			"what answers does not speak TLS: %s", c.Error)
		return false
	case c.Fault == WrongName:
		j.add("certificate", verdict.Blocked, "get one for "+u.Hostname(), "it is for %s, not for %s",
			cmp.Or(strings.Join(c.Names, ", "), "no name"), u.Hostname())
		return false
	case c.Fault == Expired:
		words := "it ended on " + day(c.Until)
		if j.s.At.Before(c.From) {
			words = "it is good from " + day(c.From) + " on; is a clock wrong?"
		}
		j.add("certificate", verdict.Blocked, "renew it, and see why that did not happen by itself", "%s", words)
		return false
	case c.Fault == Untrusted:
		j.add("certificate", verdict.Blocked,
			"use one of a public authority, and let the proxy send those between, too; for an "+
				"authority of your own give --ca", "nobody vouches for it: %s (issued by %s)", c.Error, cmp.Or(c.Issuer, "nobody"))
		return false
	default:
		j.reachable("certificate", u, c.Fault, c.Error)
		return false
	}
	left := c.Until.Sub(j.s.At)
	if left < soon {
		j.add("certificate", verdict.Warning, "see whether it is renewed by itself", "it ends in %d days, on %s",
			int(left.Hours()/24), day(c.Until))
	} else {
		j.add("certificate", verdict.OK, "", "good until %s, by %s; %s%s", day(c.Until),
			cmp.Or(c.Issuer, "an authority of no name"),
			c.Version, map[bool]string{true: ", HTTP/2"}[c.HTTP2])
	}
	return true
}

func day(t time.Time) string { return t.Format("2006-01-02") }

// plain judges what is answered without TLS.
func (j *judge) plain(u *url.URL) {
	p := j.s.Plain
	if p == nil || u.Scheme != "https" {
		return
	}
	to, err := url.Parse(p.Location)
	switch {
	case p.Error != "":
		j.add("plain HTTP", verdict.OK, "", "nothing is answered without HTTPS")
	case p.Status >= 300 && p.Status < 400 && err == nil && to.Scheme == "https" &&
		strings.EqualFold(to.Hostname(), u.Hostname()):
		j.add("plain HTTP", verdict.OK, "", "leads on to HTTPS")
	case p.Status >= 400:
		j.add("plain HTTP", verdict.OK, "", "is refused")
	default:
		j.add("plain HTTP", verdict.Warning, "let the proxy redirect it to "+u.Scheme+"://"+u.Host,
			"port 80 answers by itself (%d), without leading on to HTTPS", p.Status)
	}
}

// answer judges the first answer.
func (j *judge) answer(u *url.URL) bool {
	a := j.s.Answer
	if a == nil {
		return false
	}
	by := ""
	if a.Server != "" {
		by = fmt.Sprintf(" (%s)", a.Server)
	}
	switch {
	case a.Fault == Unreachable, a.Fault == Refused:
		j.reachable("port", u, a.Fault, a.Error)
	case a.Error != "":
		j.add("answer", verdict.Blocked, "see the log of what stands between", "no answer came: %s", a.Error)
	case j.s.Arrived != nil && a.Status == 200:
		j.add("answer", verdict.OK, "", "this household's server answers%s", by)
		return true
	case a.Status == 503 && j.s.Arrived != nil:
		j.add("answer", verdict.Blocked, "let the first person in: cozyshelf member add NAME --role admin",
			"this household's server answers%s, but there is no member yet", by)
	case a.Status == 421:
		j.add("answer", verdict.Blocked,
			"let the proxy pass the Host header on as it came, or write the name it sends into names "+
				"under [server]", "the server is asked by a name that it does not know")
	case a.Status == 403:
		j.add("answer", verdict.Blocked,
			"let the proxy send X-Forwarded-Proto: https, and write its address into trusted_proxies",
			"the server answers, but takes the question for plain HTTP from outside")
	case a.Status == 502 || a.Status == 503 || a.Status == 504:
		j.add("answer", verdict.Blocked,
			"see whether the server runs (cozyshelf status), and whether the proxy may reach it where "+
				"its rule says", "what stands between%s does not reach the server: it says %d", by, a.Status)
	case a.Status == 401 || a.Status == 407:
		j.add("answer", verdict.Blocked, "let it pass on what comes for this server: members sign in by themselves",
			"what stands between%s wants a password of its own", by)
	case a.Status >= 300 && a.Status < 400:
		j.add("answer", verdict.Blocked, "see where it leads, and let it end", "what stands between%s leads elsewhere (%d)",
			by,
			a.Status)
	case a.Status == 200:
		j.add("answer", verdict.Blocked, "see where the name and the port lead",
			"something answers%s, but not this household's "+
				"server", by)
	default:
		j.add("answer", verdict.Blocked, "see the log of what stands between", "the answer%s is %d", by, a.Status)
	}
	return false
}

// arrival judges what was passed on.
func (j *judge) arrival(u *url.URL, trusted []netip.Prefix) {
	a := j.s.Arrived
	via, err := netip.ParseAddr(a.Via)
	if err != nil {
		return
	}
	isTrusted := slices.ContainsFunc(trusted, func(p netip.Prefix) bool { return p.Contains(via) })
	switch {
	case a.Forwarded == 0 && u.Scheme == "http":
		j.add("client's address", verdict.OK, "", "nothing stands between")
	case a.Forwarded == 0:
		j.add("client's address", verdict.Blocked, "let the proxy set X-Forwarded-For to the address of the client",
			"%s passes no address of the client on, so everybody seems to be where it is", a.Via)
	case !isTrusted:
		j.add("client's address", verdict.Blocked, fmt.Sprintf("write trusted_proxies = [%q] under [remote], and deploy",
			a.Via),
			"%s passes it on, and is not trusted: everybody seems to be where it is", a.Via)
	case a.Client == a.Via:
		j.add("client's address", verdict.Warning, "ask from another machine, or with --from another address of this one",
			"it cannot be told: the question came from %s, where the proxy is", a.Via)
	case a.Client == j.s.Claimed:
		j.add("client's address", verdict.Blocked,
			"let the proxy set X-Forwarded-For anew, or add the client's address at its end",
			"whoever asks may say where they come from: the server took them for %s, as the question claimed", a.Client)
	default:
		j.add("client's address", verdict.OK, "",
			"passed on as %s by %s, which is trusted; what a stranger claims does not count",
			a.Client, a.Via)
	}
	switch {
	case u.Scheme == "https" && !a.Secure && isTrusted:
		j.add("HTTPS is told", verdict.Blocked, "let the proxy send X-Forwarded-Proto: https",
			"the server does not know that the way is HTTPS: cookies are not safe, and strangers are refused")
	case u.Scheme == "https" && a.Secure:
		j.add("HTTPS is told", verdict.OK, "", "the server knows that the way is HTTPS")
	}
	if !strings.EqualFold(a.Host, u.Host) {
		j.add("name is told", verdict.Warning, "let the proxy pass the Host header on as it came",
			"the server is asked by %s, not by %s: links that it gives out are wrong, and so are passkeys", a.Host, u.Host)
	}
}

// trials judges what was tried.
func (j *judge) trials() {
	for _, one := range []struct {
		what, well, do string
		t              *Trial
		s              verdict.Status
	}{
		{"ranges", "parts of a file come as they were asked for",
			"let the proxy pass Range on, and neither keep nor compress media",
			j.s.Ranges, verdict.Blocked},
		{"uploads", "large bodies arrive whole",
			"take the bound of the body's size away in the proxy, and its waiting for the " +
				"whole body", j.s.Upload, verdict.Warning},
		{"events", "come as they happen", "take buffering away in the proxy", j.s.Events, verdict.Warning},
		{"long answers", "are waited for", "give the proxy an hour to wait for an answer", j.s.Patient, verdict.Warning},
	} {
		switch {
		case one.t == nil:
		case one.t.Why == "":
			j.add(one.what, verdict.OK, "", "%s", one.well)
		default:
			j.add(one.what, one.s, one.do, "%s", one.t.Why)
		}
	}
	if len(j.s.Doubled) > 0 {
		j.add("headers", verdict.Warning, "let the proxy add none of them: the server sends them", "%s came twice",
			strings.Join(j.s.Doubled, ", "))
	}
}
