package blueprint

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
)

// TestKeysBecomeWhatTheirTableSays takes each key out of a household that has all of them, or
// changes it where it is needed, and looks what of the blueprint is another then.
func TestKeysBecomeWhatTheirTableSays(t *testing.T) {
	text, err := os.ReadFile("../household/testdata/every.toml")
	if err != nil {
		t.Fatal(err)
	}
	site := Site{Engine: "docker", UID: 1500, GID: 1500, Image: "sha256:1", Version: "1",
		Can: facts.Capabilities{Isolates: true, Networks: true, HostNetwork: true, Volumes: true, Limits: true,
			Boots: true}}
	draw := func(text []byte) Blueprint {
		t.Helper()
		h, err := household.Decode("h", text)
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		return Draw(h, site)
	}
	// With a network of its own, as some keys count only then.
	text = bytes.Replace(text, []byte(`network = "host"`), []byte(`network = "mill"`), 1)
	text = bytes.Replace(text, []byte(`scratch = "/srv/scratch"`), []byte(`scratch = "memory"`), 1)
	full := draw(text)
	instead := map[string]string{"remote.certificate.folder": `"/srv/else"`, "remote.certificate.chain": `"other.pem"`,
		"remote.certificate.key": `"other.pem"`, "remote.certificate.agree": "true # still",
		"convert.device": `"/dev/nvidia0"`, "remote.address": `"https://other.example.net"`,
		"remote.name.keep": `"web"`, "remote.name.learn": `"interface"`, "remote.name.stun": `["b.example"]`,
		"remote.name.interface": `"eth1"`, "remote.name.nameserver": `"b.example"`, "remote.name.zone": `"b.example"`,
		"remote.name.address": `"https://b.example/"`, "remote.name.user": `"ozan"`, "remote.name.secret": `"/etc/b.key"`,
		"household.name": `"Mill Yard"`, "storage.state": `"/srv/else"`,
		"shelf.name": `"further"`,
		"shelf.kind": `"series"`, "shelf.folders": `["smb://nas.home.arpa/else"]`,
		"lookup.wikidata": `"http://a.home.arpa"`,
		"lookup.commons":  `"http://a.home.arpa"`, "lookup.musicbrainz": `"http://a.home.arpa"`,
		"lookup.covers": `"http://a.home.arpa"`, "backup.every": `"day"`, "quiet.work": `["frames"]`,
		"notice.name": `"other"`, "notice.address": `"http://a.home.arpa"`, "notice.secret": `"/etc/other.key"`,
		"notice.user": `"other"`, "notice.from": `"other@mill.home.arpa"`, "notice.program": `"/usr/local/bin/other"`,
		"notice.recipients": `["ozan@mill.home.arpa"]`,
		"storage.scratch":   `"/srv/scratch"`, "server.network": `"other"`, "lookup.sources": `["wikidata"]`}
	for _, k := range household.Keys {
		dot := strings.LastIndexByte(k.Name, '.')
		if dot < 0 {
			continue // the format of the file
		}
		text, full := string(text), full
		if strings.Contains(k.Takes, "for `acme`") {
			text = strings.Replace(text, `from = "files"`, `from = "acme"`, 1)
			full = draw([]byte(text))
		}
		if k.Name == "notice.to" { // of one that has nothing but its name
			text = strings.Replace(text, `name = "house"`, "name = \"first\"\nto = \"webhook\"\n"+
				"address = \"http://b.home.arpa\"\nsecret = \"/etc/b.key\"\n[[notice]]\nname = \"house\"", 1)
			one := strings.Replace(text, "to = \"webhook\"\naddress = \"http://b.home.arpa\"\nsecret = \"/etc/b.key\"",
				"to = \"program\"\nprogram = \"/usr/local/bin/other\"", 1)
			if bytes.Equal(draw([]byte(text)).Settings.JSON(), draw([]byte(one)).Settings.JSON()) {
				t.Error("notice.to becomes nothing")
			}
			continue
		}
		other, found := replaceKey(text, k.Name[:dot], k.Name[dot+1:], instead[k.Name])
		if !found {
			t.Errorf("%s: the test has no such key", k.Name)
			continue
		}
		now := draw([]byte(other))
		settings := !bytes.Equal(now.Settings.JSON(), full.Settings.JSON())
		a, b := full.Server(), now.Server()
		a.Settings, a.Command, b.Settings, b.Command = "", nil, "", nil
		service := a.Digest() != b.Digest()
		got := household.Tool
		switch {
		case settings && service:
			got = household.Both
		case settings:
			got = household.Settings
		case service:
			got = household.Service
		}
		if got != k.Becomes {
			t.Errorf("%s becomes %s, and its table says %s", k.Name, got, k.Becomes)
		}
	}
}

// replaceKey writes another value for a key where it stands first, or takes its line out where there is none.
func replaceKey(text, section, key, value string) (out string, found bool) {
	in := ""
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, "[") {
			in = strings.Trim(line, "[]\n")
		}
		if in == section && strings.HasPrefix(line, key+" = ") && !found {
			found = true
			if line = ""; value != "" {
				line = key + " = " + value + "\n"
			}
		}
		out += line
	}
	return out, found
}
