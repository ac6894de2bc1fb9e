package reach

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/verdict"
)

// good is what is seen where all is well.
func good() Seen {
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	return Seen{Address: "https://shelf.example.net", At: now, Addresses: []string{"203.0.113.5"},
		Certificate: &Certificate{Names: []string{"shelf.example.net"}, Issuer: "an authority", Until: now.AddDate(0, 2, 0),
			Version: "TLS 1.3", HTTP2: true},
		Plain: &Plain{Status: 301, Location: "https://shelf.example.net/"}, Answer: &Answer{Status: 200},
		Arrived: &Arrival{Via: "172.18.0.1", Client: "198.51.100.4", Secure: true, Host: "shelf.example.net", Forwarded: 2},
		Claimed: "203.0.113.77", Ranges: &Trial{}, Upload: &Trial{}, Events: &Trial{}, Patient: &Trial{}}
}

var trusted = []netip.Prefix{netip.MustParsePrefix("172.18.0.1/32")}

func worst(lines []verdict.Line) verdict.Status {
	out := verdict.OK
	for _, l := range lines {
		if l.Status == verdict.Blocked || l.Status == verdict.Warning && out == verdict.OK {
			out = l.Status
		}
	}
	return out
}

// situations are what may be seen, and what is said of it.
var situations = []struct {
	name   string
	seen   func(*Seen)
	status verdict.Status
	what   string // of the first line that is not well
	says   string // words in it, or in what is to be done
}{
	{"all is well", func(*Seen) {}, verdict.OK, "", ""},
	{"no address", func(s *Seen) { s.Address = "" }, verdict.Blocked, "address", "[remote]"},
	{"no such name", func(s *Seen) { s.NameError = "no such host" }, verdict.Blocked, "name", "record"},
	{"a name without an address", func(s *Seen) { s.Addresses = nil }, verdict.Blocked, "name", "AAAA"},
	{"a name for home", func(s *Seen) { s.Addresses = []string{"192.168.1.9"} }, verdict.Warning, "name",
		"nobody outside"},
	{"an address that many share", func(s *Seen) { s.Addresses = []string{"100.70.1.2"} },
		verdict.Warning, "name", "nobody outside"},
	{"an address that was given", func(s *Seen) { s.Addresses, s.Given = []string{"192.168.1.9"}, true },
		verdict.OK, "", ""},
	{"dropped", func(s *Seen) { s.Certificate = &Certificate{Fault: Unreachable, Error: "i/o timeout"} }, verdict.Blocked,
		"port",
		"forward port 443"},
	{"dropped at another port", func(s *Seen) {
		s.Address, s.Certificate = "https://shelf.example.net:8443", &Certificate{Fault: Unreachable}
	}, verdict.Blocked, "port", "port 8443"},
	{"nothing listens", func(s *Seen) { s.Certificate = &Certificate{Fault: Refused} }, verdict.Blocked, "port",
		"nothing listens"},
	{"no TLS", func(s *Seen) { s.Certificate = &Certificate{Fault: NoTLS, Error: "not TLS"} }, verdict.Blocked,
		"certificate",
		"plain HTTP"},
	{"another's certificate", func(s *Seen) {
		s.Certificate.Fault, s.Certificate.Names = WrongName, []string{"router.example.net"}
	}, verdict.Blocked, "certificate", "for router.example.net, not for shelf.example.net"},
	{"a certificate for no name", func(s *Seen) { s.Certificate.Fault, s.Certificate.Names = WrongName, nil },
		verdict.Blocked,
		"certificate", "for no name"},
	{"an old certificate", func(s *Seen) { s.Certificate.Fault, s.Certificate.Until = Expired, s.At.AddDate(0, 0, -3) },
		verdict.Blocked, "certificate", "2026-11-27"},
	{"a certificate of tomorrow", func(s *Seen) {
		s.Certificate.Fault, s.Certificate.From = Expired,
			s.At.AddDate(0, 0, 1)
	},
		verdict.Blocked, "certificate", "clock"},
	{"an authority of their own", func(s *Seen) { s.Certificate.Fault = Untrusted }, verdict.Blocked, "certificate",
		"--ca"},
	{"something else at the port", func(s *Seen) { s.Certificate.Fault, s.Certificate.Error = Other, "reset" },
		verdict.Blocked,
		"certificate", "reset"},
	{"a certificate that ends", func(s *Seen) { s.Certificate.Until = s.At.AddDate(0, 0, 3) }, verdict.Warning,
		"certificate",
		"3 days"},
	{"an address without HTTPS", func(s *Seen) {
		s.Address, s.Certificate, s.Arrived.Host, s.Arrived.Secure = "http://shelf.example.net", nil, "shelf.example.net",
			false
	}, verdict.Warning, "certificate", "passwords"},
	{"plain HTTP answers", func(s *Seen) { s.Plain = &Plain{Status: 200} }, verdict.Warning, "plain HTTP", "redirect"},
	{"plain HTTP leads elsewhere", func(s *Seen) { s.Plain.Location = "https://other.example.net/" }, verdict.Warning,
		"plain HTTP",
		"redirect"},
	{"plain HTTP leads on to itself", func(s *Seen) { s.Plain.Location = "http://shelf.example.net/" }, verdict.Warning,
		"plain HTTP", "redirect"},
	{"plain HTTP is closed", func(s *Seen) { s.Plain = &Plain{Error: "refused"} }, verdict.OK, "", ""},
	{"plain HTTP is refused", func(s *Seen) { s.Plain = &Plain{Status: 403} }, verdict.OK, "", ""},
	{"the proxy does not reach it", func(s *Seen) { s.Answer, s.Arrived = &Answer{Status: 502, Server: "nginx"}, nil },
		verdict.Blocked, "answer", "(nginx) does not reach"},
	{"the proxy waits in vain", func(s *Seen) { s.Answer, s.Arrived = &Answer{Status: 504}, nil }, verdict.Blocked,
		"answer",
		"cozyshelf status"},
	{"no member yet", func(s *Seen) { s.Answer = &Answer{Status: 503} }, verdict.Blocked, "answer", "member add"},
	{"another server", func(s *Seen) { s.Arrived = nil }, verdict.Blocked, "answer", "not this household's"},
	{"another name", func(s *Seen) { s.Answer, s.Arrived = &Answer{Status: 421}, nil }, verdict.Blocked, "answer", "Host"},
	{"taken for plain HTTP", func(s *Seen) { s.Answer, s.Arrived = &Answer{Status: 403}, nil }, verdict.Blocked, "answer",
		"X-Forwarded-Proto"},
	{"a password of the proxy's", func(s *Seen) { s.Answer, s.Arrived = &Answer{Status: 401}, nil }, verdict.Blocked,
		"answer",
		"password of its own"},
	{"a circle", func(s *Seen) { s.Answer, s.Arrived = &Answer{Status: 308}, nil }, verdict.Blocked, "answer",
		"elsewhere"},
	{"cut off", func(s *Seen) { s.Answer, s.Arrived = &Answer{Error: "EOF"}, nil }, verdict.Blocked, "answer", "EOF"},
	{"a strange answer", func(s *Seen) { s.Answer, s.Arrived = &Answer{Status: 418}, nil }, verdict.Blocked, "answer",
		"418"},
	{"no client", func(s *Seen) { s.Arrived.Forwarded, s.Arrived.Client = 0, "172.18.0.1" }, verdict.Blocked,
		"client's address",
		"set X-Forwarded-For"},
	{"asked from where the proxy is", func(s *Seen) { s.Arrived.Client = "172.18.0.1" }, verdict.Warning,
		"client's address",
		"another machine"},
	{"an untrusted proxy", func(s *Seen) { s.Arrived.Via, s.Arrived.Client = "172.18.0.7", "172.18.0.7" }, verdict.Blocked,
		"client's address", `trusted_proxies = ["172.18.0.7"]`},
	{"a client that is believed", func(s *Seen) { s.Arrived.Client, s.Arrived.Forwarded = s.Claimed, 1 }, verdict.Blocked,
		"client's address", "claimed"},
	{"HTTPS is not told", func(s *Seen) { s.Arrived.Secure = false }, verdict.Blocked, "HTTPS is told", "cookies"},
	{"the name is not told", func(s *Seen) { s.Arrived.Host = "127.0.0.1:26990" }, verdict.Warning, "name is told",
		"passkeys"},
	{"ranges", func(s *Seen) { s.Ranges.Why = "all came" }, verdict.Blocked, "ranges", "compress"},
	{"uploads", func(s *Seen) { s.Upload.Why = "413" }, verdict.Warning, "uploads", "size"},
	{"events", func(s *Seen) { s.Events.Why = "all at once" }, verdict.Warning, "events", "buffering"},
	{"long answers", func(s *Seen) { s.Patient.Why = "504" }, verdict.Warning, "long answers", "hour"},
	{"twice", func(s *Seen) { s.Doubled = []string{"X-Frame-Options"} }, verdict.Warning, "headers", "X-Frame-Options"},
}

func TestSituations(t *testing.T) {
	for _, one := range situations {
		s := good()
		one.seen(&s)
		lines := Judge(s, trusted)
		if got := worst(lines); got != one.status {
			t.Errorf("%s: %s, not %s: %+v", one.name, got, one.status, lines)
			continue
		}
		for _, l := range lines {
			if l.Status == verdict.OK {
				continue
			}
			if l.What != one.what || !strings.Contains(l.Says+" "+l.Do, one.says) || l.Do == "" {
				t.Errorf("%s: %+v", one.name, l)
			}
			break
		}
	}
}

// TestNothingIsSaidBehindAFault looks that what could not be seen is not judged.
func TestNothingIsSaidBehindAFault(t *testing.T) {
	for _, s := range []Seen{{}, {Address: "https://shelf.example.net"},
		{Address: "https://shelf.example.net", NameError: "x"},
		{Address: "https://shelf.example.net", Addresses: good().Addresses},
		{Address: "https://shelf.example.net", Addresses: good().Addresses, Certificate: good().Certificate, At: good().At}} {
		for _, l := range Judge(s, nil) {
			if l.What == "ranges" || l.What == "answer" || l.What == "client's address" {
				t.Errorf("%+v: %+v", s, l)
			}
		}
	}
}
