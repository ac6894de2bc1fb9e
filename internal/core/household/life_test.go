package household

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
)

const small = `format = 1

[household]
name = "Fernhollow Mill"   # an old mill

[server]
run_as = "1500:1500"
%s
[storage]
state = "/srv/state"
`

func TestWhatRulesTheLifeOfADeployment(t *testing.T) {
	for line, says := range map[string]string{
		`start = "sometimes"`:       `start "sometimes" is not known`,
		`umask = "0922"`:            "cannot be a umask",
		`umask = "0722"`:            "cannot be a umask",
		`umask = "22"`:              "cannot be a umask",
		`dns = ["home.arpa"]`:       "is not the address of a name server",
		`dns = ["::", "192.0.2.1"]`: "is not the address of a name server",
		`dns = ["192.0.2.1", "192.0.2.2", "192.0.2.3", "192.0.2.4"]`: "three name servers",
		`hosts = { "nas" = "over there" }`:                           "no name of a host",
		`hosts = { "a b" = "192.0.2.1" }`:                            "no name of a host",
		`hosts = ["nas"]`:                                            "wrong kind",
		`log_level = "loud"`:                                         `level "loud"`,
		`log_format = "xml"`:                                         `format "xml"`,
		`version = "1.0 beta"`:                                       "cannot be a version",
		"[backup]\nkeep = 3":                                         "how often",
		"[backup]\nevery = \"fortnight\"":                            "how often something can be done",
		"[backup]\nevery = \"10m\"":                                  "how often something can be done",
		"[backup]\nevery = \"day\"\nat = \"25:00\"":                  `"25:00" is none`,
		"[backup]\nevery = \"day\"\nkeep = -1":                       "cannot be kept",
		"[backup]\nevery = \"day\"\nfolder = \"/srv/state/x\"":       "lies inside",
	} {
		_, err := Decode("h", fmt.Appendf(nil, small, line))
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: got %v, want %q", line, err, says)
		}
	}
	h, err := Decode("h", fmt.Appendf(nil, small,
		"umask = \"0027\"\nstart = \"crash\"\ndns = [\"2001:db8::53\"]\nhosts = { \"nas.home.arpa\" = "+
			"\"2001:db8::1\" }\n[backup]\nevery = \"week\"\nfolder = \"/srv/backups\"\n"))
	if err != nil || h.Server.UmaskBits() != 0o027 || h.Backup.Keep != 7 || h.Backup.At != "03:30" ||
		h.Server.Hosts["nas.home.arpa"] != "2001:db8::1" {
		t.Errorf("got %+v, %v", h, err)
	}
}

func TestSetLeavesAllElseAsItIs(t *testing.T) {
	text := fmt.Appendf(nil, small, "port = 26990   # ours\nmemory = \"1 GiB\" # with a \\# in words")
	for _, c := range []struct{ section, key, value, want string }{
		{"server", "port", "26991", "port = 26991   # ours\n"},
		{"server", "memory", Quote("2 GiB"), "memory = \"2 GiB\" # with"},
		{"household", "name", Quote("A # in \"it\""), "name = \"A # in \\\"it\\\"\"   # an old mill\n"},
		{"server", "version", Quote("1.2.3"), "version = \"1.2.3\"\n"},
		{"backup", "every", Quote("day"), "\n\n[backup]\nevery = \"day\"\n"},
	} {
		got, err := Set("h", text, c.section, c.key, c.value)
		if err != nil || !strings.Contains(string(got), c.want) {
			t.Errorf("%s.%s: %v\n%s", c.section, c.key, err, got)
			continue
		}
		// Only that line differs.
		old, now := strings.Split(string(text), "\n"), strings.Split(string(got), "\n")
		differ := 0
		for _, l := range old {
			if !bytes.Contains(got, []byte(l)) {
				differ++
			}
		}
		if differ > 1 || len(now) > len(old)+3 {
			t.Errorf("%s.%s: %d lines differ\n%s", c.section, c.key, differ, got)
		}
		again, err := Set("h", got, c.section, c.key, c.value)
		if err != nil || !bytes.Equal(again, got) {
			t.Errorf("%s.%s twice: %v\n%s", c.section, c.key, err, again)
		}
	}
	if _, err := Set("h", text, "server", "port", "70000"); err == nil {
		t.Error("an impossible value was written")
	}
	with, err := Set("h", text, "backup", "every", Quote("day"))
	if err != nil {
		t.Fatal(err)
	}
	without, err := RemoveSection("h", with, "backup")
	if err != nil || strings.TrimRight(string(without), "\n") != strings.TrimRight(string(text), "\n") {
		t.Errorf("taken out again: %v\n%s", err, without)
	}
}
