package proxy

import (
	"strings"
	"testing"
)

func TestRulesNameTheSite(t *testing.T) {
	for _, k := range Kinds {
		for address, want := range map[string]string{"https://shelf.example.net": "https://shelf.example.net",
			"https://Shelf.Example.net:8443/": "https://shelf.example.net:8443"} {
			s, err := SiteOf("Fernhollow Mill\n} evil {", address, "127.0.0.1:26990")
			if err != nil {
				t.Fatal(err)
			}
			text, err := Rule(k, s)
			if err != nil {
				t.Fatal(err)
			}
			for _, has := range []string{want, "shelf.example.net", "127.0.0.1:26990", "Fernhollow Mill"} {
				if !strings.Contains(text, has) {
					t.Errorf("%s does not say %s:\n%s", k, has, text)
				}
			}
			// A household's name stays within its remark.
			for line := range strings.Lines(text) {
				if strings.Contains(line, "evil") && !strings.HasPrefix(line, "#") {
					t.Errorf("%s: %s", k, line)
				}
			}
			if strings.Contains(text, "<no value>") || !strings.HasSuffix(text, "\n") {
				t.Errorf("%s:\n%s", k, text)
			}
		}
	}
}

func TestWhatCannotStandInARule(t *testing.T) {
	for _, address := range []string{"", "http://shelf.example.net", "https://", "https://a;b.example.net",
		"https://[2001:db8::1]",
		"https://ex ample.net", "https://-a.example.net", "https://" + strings.Repeat("a.", 130) + "net",
		"https://x.example.net:99999"} {
		if s, err := SiteOf("mill", address, "127.0.0.1:26990"); err == nil {
			t.Errorf("%q: %+v", address, s)
		}
	}
	good := Site{Household: "mill", Host: "shelf.example.net", Port: 443, Upstream: "127.0.0.1:26990"}
	for what, spoil := range map[string]func(*Site){
		"upstream": func(s *Site) { s.Upstream = "127.0.0.1:26990; evil" },
		"no port":  func(s *Site) { s.Upstream = "127.0.0.1" },
		"path":     func(s *Site) { s.Certificate, s.Key = "/etc/a b.pem", "/etc/k.pem" },
		"key":      func(s *Site) { s.Certificate = "/etc/a.pem" },
	} {
		s := good
		spoil(&s)
		if text, err := Rule(Nginx, s); err == nil {
			t.Errorf("%s:\n%s", what, text)
		}
	}
	if _, err := Rule("other", good); err == nil {
		t.Error("a proxy that is not known")
	}
}
