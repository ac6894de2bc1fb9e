package household

import (
	"fmt"
	"net/netip"
	"net/url"
	"reflect"
	"regexp"
	"slices"
	"strings"
)

// RemoteName is [remote.name]: what is done so that the name of remote.address stands for the line's address.
type RemoteName struct {
	Keep       string   `toml:"keep" json:"keep"`                       // none (default), dns, web
	Learn      string   `toml:"learn" json:"learn"`                     // stun, interface; empty for not at all
	STUN       []string `toml:"stun" json:"stun,omitempty"`             // servers outside, host or host:port
	Interface  string   `toml:"interface" json:"interface,omitempty"`   // of this machine, with the line's address
	Nameserver string   `toml:"nameserver" json:"nameserver,omitempty"` // for dns: host:port
	Zone       string   `toml:"zone" json:"zone,omitempty"`             // for dns; found by itself where empty
	Address    string   `toml:"address" json:"address,omitempty"`       // for web: what is asked, with {name} and so on
	User       string   `toml:"user" json:"user,omitempty"`             // for web: by whom
	Secret     string   `toml:"secret" json:"-"`                        // a file of mode 0600
}

// How a record is kept, and from where the line's address is learnt.
const (
	KeepNone = "none" // it is only said where it stands for something else
	KeepDNS  = "dns"  // by dynamic update (RFC 2136)
	KeepWeb  = "web"  // by asking an address of whoever keeps the name

	LearnSTUN      = "stun"
	LearnInterface = "interface"
)

// Wanted reports whether it is looked what the name stands for.
func (n RemoteName) Wanted() bool { return n.Learn != "" }

// NeedsSecret reports whether the record is written with a secret.
func (n RemoteName) NeedsSecret() bool {
	return n.Keep == KeepDNS || n.Keep == KeepWeb && (n.User != "" || strings.Contains(n.Address, PutSecret))
}

// What stands in the address for web, in braces.
const (
	PutName    = "{name}"
	PutAddress = "{address}" // one after the other, where the line has two
	PutIPv4    = "{ipv4}"
	PutIPv6    = "{ipv6}"
	PutSecret  = "{secret}"
)

var (
	braces        = regexp.MustCompile(`\{[^}]*\}?|\}`)
	interfaceName = regexp.MustCompile(`^[^/\s]{1,15}$`)
)

// HostOf gives the name of an address such as https://shelf.example.net; empty where it is none that has records.
func HostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	host := strings.TrimSuffix(strings.ToLower(u.Hostname()), ".")
	if _, err := netip.ParseAddr(host); err == nil || IsHomeName(host) {
		return ""
	}
	return host
}

// mostSTUN bounds how many servers are asked.
const mostSTUN = 4

func (h *Household) judgeName(c *complaints) {
	const key = "remote.name."
	n := h.Remote.Name
	if n.Learn == "" {
		rest := n
		rest.Keep = ""
		if n.Keep != KeepNone || !reflect.DeepEqual(rest, RemoteName{}) {
			c.bad(key+"learn", "write learn = \"stun\", or learn = \"interface\"",
				"it is not said from where the line's address is learnt")
		}
		return
	}
	if HostOf(h.Remote.Address) == "" {
		c.bad(key+"learn", "write remote.address = \"https://shelf.example.net\", with your own name",
			"there is no name whose record could be kept")
	}
	switch n.Learn {
	case LearnSTUN:
		if len(n.STUN) == 0 {
			c.bad(key+"stun", "write stun = [\"stun.example.net:3478\"], better two of different people",
				"nobody is named "+
					"who could be asked")
		}
	case LearnInterface:
		if !interfaceName.MatchString(n.Interface) {
			c.bad(key+"interface",
				"write the name of the interface with the line's address, such as \"eth0\" (ip address)",
				"%q is none", n.Interface)
		}
	}
	if len(n.STUN) > mostSTUN {
		c.bad(key+"stun", "leave some out", "%d servers are asked at most", mostSTUN)
	}
	for i, s := range n.STUN {
		if s == "" || strings.ContainsAny(s, " /@") {
			c.bad(fmt.Sprintf("%sstun[%d]", key, i), "write a host, or host:port", "%q is none", s)
		}
	}
	switch n.Keep {
	case KeepDNS:
		if n.Nameserver == "" || strings.ContainsAny(n.Nameserver, " /@") {
			c.bad(key+"nameserver", "write the zone's name server, such as \"ns.example.net\" or with its port",
				"%q is none",
				n.Nameserver)
		}
		if n.Secret == "" {
			c.bad(key+"secret",
				"name a file of mode 0600 with lines tsig_name= and tsig_secret=, as the name server gave them",
				"there is no key by which the name server could know who writes")
		}
	case KeepWeb:
		n.judgeWeb(c, key)
	}
	if n.Secret != "" {
		if why := folderFault(n.Secret); why != "" {
			c.bad(key+"secret", "write the whole path of a file of mode 0600", "%s", why)
		}
	}
}

func (n RemoteName) judgeWeb(c *complaints, key string) {
	for _, found := range braces.FindAllString(n.Address, -1) {
		if !slices.Contains([]string{PutName, PutAddress, PutIPv4, PutIPv6, PutSecret}, found) {
			c.bad(key+"address", "{name}, {address}, {ipv4}, {ipv6} and {secret} may stand in it",
				"%q cannot be filled in", found)
			return
		}
	}
	u, err := url.Parse(braces.ReplaceAllString(n.Address, "x"))
	switch {
	case err != nil, u.Scheme != "https" && u.Scheme != "http", u.Host == "", u.User != nil, u.Fragment != "":
		c.bad(key+"address", "write what whoever keeps the name says, such as "+
			"\"https://update.example.net/set?host={name}&ip={address}\"", "%q cannot be asked", n.Address)
	case u.Scheme == "http" && !AtHome(u.Hostname()):
		c.bad(key+"address", "use https://", "the secret would go through the internet for everybody to read")
	case braces.MatchString(strings.SplitN(strings.TrimPrefix(n.Address, u.Scheme+"://"), "/", 2)[0]):
		c.bad(key+"address", "write the host itself", "whom to ask cannot be filled in")
	}
	switch {
	case n.NeedsSecret() && n.Secret == "":
		c.bad(key+"secret", "name a file of mode 0600 with the secret that you were given", "there is no secret")
	case n.Secret != "" && !n.NeedsSecret():
		c.bad(key+"secret", "write {secret} into the address, or give user", "the secret is used nowhere")
	}
}
