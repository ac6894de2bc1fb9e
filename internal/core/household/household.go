// Package household reads the household file: the one TOML file that an
// administrator writes. Decoding is strict: an unknown key, a wrong type or an
// impossible value is reported with line, column and the nearest known key, and
// all such faults are reported at once.
//
// The package only computes. Whether folders exist or accounts are known is
// asked of the machine elsewhere; here is judged what the text alone can tell.
//
// # Keys
//
// Keys is the one table of what may stand in the file: name, type, default, help. The comments that
// Compose writes, the JSON Schema and the reference come from it; a test finds a key that is
// missing anywhere.
//
// # Changes by commands
//
// Commands change the file as a person would: Set, AddShelf, RemoveShelf, AddGroup and
// RemoveSection change the lines that they have to, and leave comments, order and blank lines
// as they are.
package household

import (
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// DefaultPort is the port of the web page and the API (plain HTTP).
const DefaultPort = 26990

// DefaultAccount is the run-as account where the household file names none.
const DefaultAccount = "shelfkeeper"

// Holding is the name of the folder, in a folder of a shelf, where what comes in waits
// until it is whole. The server does not look into it.
const Holding = ".cozyshelf-intake"

// Household is one household file, with defaults filled in.
type Household struct {
	Format    int      `toml:"format"`
	Household Section  `toml:"household"`
	Server    Server   `toml:"server"`
	Storage   Storage  `toml:"storage"`
	Shelves   []Shelf  `toml:"shelf"`
	Remote    Remote   `toml:"remote"`
	Backup    Backup   `toml:"backup"`
	Lookup    Lookup   `toml:"lookup"`
	Quiet     Quiet    `toml:"quiet"`
	Convert   Convert  `toml:"convert"`
	Usage     Usage    `toml:"usage"`
	Page      Page     `toml:"page"`
	Notices   []Notice `toml:"notice"`
}

// Lookup is [lookup]: outside catalogues that the server may ask about titles. None is
// asked unless it is named here.
type Lookup struct {
	Sources []string `toml:"sources"` // of wikidata, musicbrainz; in this order
	// Other servers that speak the same, such as a mirror; the public ones where empty.
	Wikidata    string `toml:"wikidata"`    // its api.php
	Commons     string `toml:"commons"`     // what stands before the name of a file
	MusicBrainz string `toml:"musicbrainz"` // its web service
	Covers      string `toml:"covers"`      // the cover archive
	Pause       string `toml:"pause"`       // between two questions to one catalogue; a second where empty
}

// leastPause is how long to wait between two questions to a catalogue of everybody's.
const leastPause = time.Second

// PauseOf gives the pause between two questions to a catalogue; 0 stands for the usual one.
func (l Lookup) PauseOf() (time.Duration, error) {
	if l.Pause == "" {
		return 0, nil
	}
	d, err := time.ParseDuration(l.Pause)
	if err != nil || d < 50*time.Millisecond || d > time.Minute {
		return 0, fmt.Errorf("%q is no pause between two questions", l.Pause)
	}
	public := slices.Contains(l.Sources, "wikidata") && (l.Wikidata == "" || l.Commons == "") ||
		slices.Contains(l.Sources, "musicbrainz") && (l.MusicBrainz == "" || l.Covers == "")
	if d < leastPause && public {
		return 0, fmt.Errorf("a catalogue that is everybody's is not asked more often than once a second, and %q "+
			"is less",
			l.Pause)
	}
	return d, nil
}

// OldestAge is the highest age that something may be for.
const OldestAge = 21

// Section is [household].
type Section struct {
	Name     string `toml:"name"`
	Timezone string `toml:"timezone"` // an IANA zone; empty stands for UTC
	Language string `toml:"language"` // a BCP 47 language such as "en"; empty stands for "en"
	// UnknownAge is from which age on a film or a series counts as being of which that is not known.
	UnknownAge int `toml:"unknown_age"`
}

// Server is [server].
type Server struct {
	Engine  string   `toml:"engine"`  // auto (default), docker, podman, process
	RunAs   string   `toml:"run_as"`  // an account of this machine, or "uid:gid"; shelfkeeper where left out
	Groups  []string `toml:"groups"`  // supplementary groups, by name or number, beside those of the account
	Port    int      `toml:"port"`    // 1 to 65535; default 26990
	Bind    string   `toml:"bind"`    // lan (every address of the machine, default), localhost, or an address
	Network string   `toml:"network"` // own (default), host, or an existing network of the engine
	// Graphics devices for conversion, such as "/dev/dri"; their groups come with them.
	Devices []string `toml:"devices"`
	// Processors is how many processor cores the server may keep busy, such as 1.5;
	// 0 for no bound.
	Processors float64 `toml:"processors"`
	LogLimit   Size    `toml:"log_limit"` // of the server's log, older lines go; default 16 MiB
	Memory     Size    `toml:"memory"`    // what the server may use, scratch not counted; default 1 GiB
	// Version pins the program: another one refuses to deploy. Empty for any.
	Version string `toml:"version"`
	Start   Start  `toml:"start"` // boot (default), crash or never
	// Umask takes permissions from what the server makes on shelves that it may
	// change, as umask(2); octal, default "0022".
	Umask string `toml:"umask"`
	// Addresses of name servers for the container; the engine's own where empty.
	DNS   []string          `toml:"dns"`
	Hosts map[string]string `toml:"hosts"` // further names of hosts for the container, and their addresses
	// Further names by which people ask for the server, such as shelf.home.arpa.
	Names     []string `toml:"names"`
	LogLevel  string   `toml:"log_level"`  // debug, info (default), warn, error
	LogFormat string   `toml:"log_format"` // text (default), or json
	Syslog    string   `toml:"syslog"`     // a collector that is sent the log, too: udp://, tcp:// or tls:// host:port
}

// Start says when the server is started without being asked.
type Start string

// When the server is started.
const (
	StartBoot  Start = "boot"  // with the machine, and after a crash
	StartCrash Start = "crash" // after a crash only
	StartNever Start = "never"
)

// Backup is [backup]: backups that the server makes by itself.
type Backup struct {
	Every  string `toml:"every"`  // day, week, or hours such as "12h"; empty for none
	At     string `toml:"at"`     // for day and week: the time of day; default "03:30"
	Keep   int    `toml:"keep"`   // how many stay; default 7
	Folder string `toml:"folder"` // an absolute folder; backups/ in the state folder where left out
}

// Storage is [storage].
type Storage struct {
	State        string `toml:"state"`         // an absolute folder; required
	Scratch      string `toml:"scratch"`       // memory (default), or an absolute folder
	ScratchLimit Size   `toml:"scratch_limit"` // default 256 MiB
}

// Shelf is one [[shelf]].
type Shelf struct {
	Name    string   `toml:"name"`
	Kind    Kind     `toml:"kind"`
	Folders []string `toml:"folders"` // absolute, or shares as nfs:// or smb://, which the engine mounts
	Access  Access   `toml:"access"`  // read (default) or change
	// Credentials is a file of mode 0600 with username=, password= and, where it
	// is needed, domain=, a line each; for shares as smb://.
	Credentials string `toml:"credentials"`
	// ScanEvery is how often the shelf is looked at as a whole, beside at once when its
	// files change: day, week, or a length such as "6h"; never; empty for what suits it.
	ScanEvery string `toml:"scan_every"`
}

// Remote is [remote].
type Remote struct {
	// The address people use from outside, such as https://shelf.example.net.
	Address        string   `toml:"address"`
	TrustedProxies []string `toml:"trusted_proxies"` // addresses or networks whose X-Forwarded-For is believed
	AllowPlain     bool     `toml:"allow_plain"`     // answer from outside over plain HTTP, too
	SecondFactor   string   `toml:"second_factor"`   // who needs one from outside: admins, everybody, nobody
	// Networks outside from which alone somebody may come, and those from which nobody does.
	AllowedNetworks []string `toml:"allowed_networks"`
	RefusedNetworks []string `toml:"refused_networks"`

	Certificate Certificate `toml:"certificate"`
	Name        RemoteName  `toml:"name"`
}

// Certificate is [remote.certificate]: HTTPS of the server's own.
type Certificate struct {
	From      string `toml:"from"`      // none (default), home, files, acme
	Port      int    `toml:"port"`      // of HTTPS; default 26943
	Folder    string `toml:"folder"`    // for files: an absolute folder, which the server may read
	Chain     string `toml:"chain"`     // in it: the certificate, and those above it, as PEM
	Key       string `toml:"key"`       // in it: its private key, as PEM
	Authority string `toml:"authority"` // for acme: the directory of the authority (RFC 8555)
	Contact   string `toml:"contact"`   // for acme: a mail address that the authority may write to
	Agree     bool   `toml:"agree"`     // for acme: its terms are agreed to
	// For acme: files in the folder, with what the authority or the name server gave, and with the certificate
	// that the authority's own address is trusted by.
	Credentials string `toml:"credentials"`
	Roots       string `toml:"roots"`
	Nameserver  string `toml:"nameserver"` // for acme: host:port of the zone's name server, which takes updates (RFC 2136)
}

// Where certificates come from.
const (
	CertificateNone  = "none"
	CertificateHome  = "home"  // a small authority of the household's own
	CertificateFiles = "files" // files that somebody else renews
	CertificateACME  = "acme"  // an authority that is asked by RFC 8555
)

// PublicAuthority is the authority that is asked where no other is named.
const PublicAuthority = "https://acme-v02.api.letsencrypt.org/directory"

// HTTPS reports whether the server has HTTPS of its own.
func (r Remote) HTTPS() bool {
	return r.Certificate.From != "" && r.Certificate.From != CertificateNone
}

// Page is [page].
type Page struct {
	Administration string `toml:"administration"` // from where administrators see to the house: home, anywhere, never
}

// From where administrators see to the house on the page.
const (
	AdminHome     = "home"
	AdminAnywhere = "anywhere"
	AdminNever    = "never"
)

// Who needs a second factor from outside.
const (
	SecondAdmins    = "admins"
	SecondEverybody = "everybody"
	SecondNobody    = "nobody"
)

// Kind is the kind of a shelf.
type Kind string

// The kinds of shelves.
const (
	Films      Kind = "films"
	Series     Kind = "series"
	Music      Kind = "music"
	Photos     Kind = "photos"
	Recordings Kind = "recordings"
)

// Kinds lists every kind, in the order in which they are shown.
var Kinds = []Kind{Films, Series, Music, Photos, Recordings}

// Access says what the server may do with a shelf's folders.
type Access string

// What the server may do with a shelf.
const (
	Read   Access = "read"
	Change Access = "change"
)

// Size is a number of bytes, written as "512 MiB" or "2 GB".
type Size int64

// UnmarshalText reads a size with its unit.
func (s *Size) UnmarshalText(b []byte) error {
	text := strings.TrimSpace(string(b))
	if !sizeText.MatchString(text) {
		return fmt.Errorf("%q is not a size; write a number and a unit, such as \"512 MiB\" or \"2 GiB\"", text)
	}
	n, err := humanize.ParseBytes(text)
	if err != nil || n > 1<<60 {
		return fmt.Errorf("%q is not a size that fits; write a number and a unit, such as \"512 MiB\"", text)
	}
	*s = Size(n)
	return nil
}

// String writes the size with a binary unit.
func (s Size) String() string {
	return strings.Replace(humanize.IBytes(uint64(max(0, s))), ".0 ", " ", 1)
}

var (
	sizeText  = regexp.MustCompile(`(?i)^[0-9]+([.][0-9]+)?\s*[kmgt]i?b$`)
	shelfName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$`)
	netName   = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9_.-]{0,63}$`)
	langTag   = regexp.MustCompile(`^[a-z]{2,3}(-[A-Za-z0-9]{2,8})*$`)
	idPair    = regexp.MustCompile(`^([0-9]{1,10}):([0-9]{1,10})$`)
	account   = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]{0,31}[$]?$`)
)

// The smallest memory limit with which the server starts and scans, in bytes.
const leastMemory = 64 << 20

// complaint is a fault found at a key, before it is given its line and column.
type complaint struct {
	key, why, fix string
}

// Complaint is what is wrong with a key of a household.
type Complaint struct{ Key, Why, Fix string }

// Complaints gives everything that is wrong with a household that was put together by hand,
// with defaults in place of what it leaves out.
func (h *Household) Complaints() []Complaint {
	whole := *h
	whole.Shelves = slices.Clone(h.Shelves)
	whole.defaults(nothing)
	var out []Complaint
	for _, c := range whole.judge(func(string) bool { return false }) {
		out = append(out, Complaint{Key: c.key, Why: c.why, Fix: c.fix})
	}
	return out
}

// Fault gives what is wrong with one key, or with what is below it, while others may be
// missing still; ok is false where nothing is.
func (h *Household) Fault(key string) (c Complaint, ok bool) {
	for _, c := range h.Complaints() {
		if c.Key == key || strings.HasPrefix(c.Key, key+".") || strings.HasPrefix(c.Key, key+"[") {
			return c, true
		}
	}
	return Complaint{}, false
}

// judge finds every impossible value. given tells whether a key is in the text.
func (h *Household) judge(given func(key string) bool) []complaint {
	var c complaints
	if h.Format != 1 {
		c.bad("format", "write: format = 1", "this program reads format 1, the file says %d", h.Format)
	}
	h.judgeValues(&c)
	h.judgeHousehold(&c)
	h.judgeServer(&c, given)
	h.judgeSyslog(&c)
	h.judgeLife(&c)
	h.judgeQuiet(&c)
	h.judgeConvert(&c, given)
	h.judgeUsage(&c)
	h.judgeStorage(&c)
	h.judgeLookup(&c)
	h.judgeShelves(&c)
	h.judgePlaces(&c)
	h.judgeRemote(&c)
	h.judgeNotices(&c)
	return c
}

// complaints are what is found wrong, in the order in which it is told.
type complaints []complaint

// bad adds that the value of a key is impossible, why, and what to write.
func (c *complaints) bad(key, fix, why string, args ...any) {
	*c = append(*c, complaint{key, fmt.Sprintf(why, args...), fix})
}

func (h *Household) judgeHousehold(c *complaints) {
	if strings.TrimSpace(h.Household.Name) == "" {
		c.bad("household.name", "write: name = \"…\" under [household]", "the household has no name")
	} else if len(h.Household.Name) > 80 ||
		strings.ContainsFunc(h.Household.Name, func(r rune) bool { return r < ' ' }) {
		c.bad("household.name", "choose a name of at most 80 bytes with no control characters",
			"the name cannot be shown on one line")
	}
	if _, err := time.LoadLocation(h.Household.Timezone); err != nil || h.Household.Timezone == "Local" {
		c.bad("household.timezone", "write an IANA time zone, such as \"Europe/Riga\" or \"UTC\"",
			"time zone %q is not known", h.Household.Timezone)
	}
	if n := h.Household.UnknownAge; n < 0 || n > OldestAge {
		c.bad("household.unknown_age", "write an age from 0 to 21; 18 where left out",
			"films of which no age is known cannot be for those from %d on", n)
	}
	if !langTag.MatchString(h.Household.Language) {
		c.bad("household.language", "write a language such as \"en\" or \"lv\"", "%q is not a language tag",
			h.Household.Language)
	}
}

// judgeSyslog finds what is wrong with the collector of logs.
func (h *Household) judgeSyslog(c *complaints) {
	if h.Server.Syslog == "" {
		return
	}
	u, err := url.Parse(h.Server.Syslog)
	if err != nil || !slices.Contains([]string{"udp", "tcp", "tls"}, u.Scheme) || u.Hostname() == "" || u.Port() == "" ||
		u.User != nil || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.Fragment != "" {
		c.bad("server.syslog", "write udp://host:514, tcp://host:601 or tls://host:6514", "%q is no collector of logs",
			h.Server.Syslog)
	}
}

func (h *Household) judgeServer(c *complaints, given func(key string) bool) {
	switch {
	case h.Server.RunAs == "" && given("server.run_as"):
		c.bad("server.run_as", "write an account, uid:gid, or leave the line out for "+DefaultAccount,
			"no run-as account is given")
	case !account.MatchString(h.Server.RunAs):
		if _, _, ok := h.Server.IDs(); !ok {
			c.bad("server.run_as", "write an account name, or two numbers such as \"1500:1500\"",
				"%q is neither an account name nor uid:gid", h.Server.RunAs)
		}
	}
	for i, g := range h.Server.Groups {
		if n, ok := GroupNumber(g); !account.MatchString(g) && (!ok || n == 1<<32-1) {
			c.bad(fmt.Sprintf("server.groups[%d]", i), "write a group's name, or its number in quotes", "%q is neither",
				g)
		}
	}
	for i, d := range h.Server.Devices {
		if !strings.HasPrefix(path.Clean(d), "/dev/") ||
			strings.ContainsFunc(d, func(r rune) bool { return r <= ' ' || r == ':' }) {
			c.bad(fmt.Sprintf("server.devices[%d]", i), "write a device, such as \"/dev/dri\"",
				"%q is no device below /dev", d)
		}
	}
	if h.Server.Port < 1 || h.Server.Port > 65535 || given("server.port") && h.Server.Port == 0 {
		c.bad("server.port", "choose a port from 1 to 65535; 26990 is ours", "port %d is out of range", h.Server.Port)
	}
	if _, err := h.Server.BindAddr(); err != nil {
		c.bad("server.bind", "write lan, localhost, or an address such as \"192.0.2.10\"", "%q is not an address",
			h.Server.Bind)
	}
	if !netName.MatchString(h.Server.Network) {
		c.bad("server.network", "write own, host, or the name of a network of the engine",
			"%q cannot be a network's name", h.Server.Network)
	}
	if p := h.Server.Processors; p < 0 || p > 1024 || p != p || p > 0 && p < 0.1 {
		c.bad("server.processors", "write how many cores it may keep busy, such as 1.5, or leave the line out",
			"%v is no number of processor cores from 0.1 on", p)
	}
	if h.Server.LogLimit < 1<<20 {
		c.bad("server.log_limit", "give it 1 MiB or more", "%s holds too little of a log to find anything",
			h.Server.LogLimit)
	}
	if h.Server.Memory < leastMemory {
		c.bad("server.memory", "give it 64 MiB or more", "%s is less than the server needs", h.Server.Memory)
	}
}

func (h *Household) judgeStorage(c *complaints) {
	if h.Storage.ScratchLimit < 16<<20 {
		c.bad("storage.scratch_limit", "give it 16 MiB or more", "%s holds no piece of a film", h.Storage.ScratchLimit)
	}
	if h.Storage.State == "" {
		c.bad("storage.state", "write: state = \"/srv/cozyshelf/state\" under [storage]", "the state folder "+
			"is not given")
	} else if why := folderFault(h.Storage.State); why != "" {
		c.bad("storage.state", "write the whole path of a folder", "%s", why)
	}
	if h.Storage.Scratch != "memory" {
		if why := folderFault(h.Storage.Scratch); why != "" {
			c.bad("storage.scratch", "write memory, or the whole path of a folder", "%s", why)
		}
	}
}

func (h *Household) judgeRemote(c *complaints) {
	if h.Remote.Address != "" {
		u, err := url.Parse(h.Remote.Address)
		if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.Path != "" && u.Path != "/" ||
			u.User != nil || u.RawQuery != "" {
			c.bad("remote.address", "write it as in a browser, such as \"https://shelf.example.net\"",
				"%q is not an address of a web site", h.Remote.Address)
		}
	}
	for i, p := range h.Remote.TrustedProxies {
		if _, err := ParseNetwork(p); err != nil {
			c.bad(fmt.Sprintf("remote.trusted_proxies[%d]", i),
				"write an address or a network, such as \"192.0.2.10\" or \"192.0.2.0/24\"", "%q is neither", p)
		}
	}
	for key, list := range map[string][]string{"allowed_networks": h.Remote.AllowedNetworks,
		"refused_networks": h.Remote.RefusedNetworks} {
		for i, p := range list {
			if _, err := ParseNetwork(p); err != nil {
				c.bad(fmt.Sprintf("remote.%s[%d]", key, i),
					"write an address or a network, such as \"198.51.100.0/24\"", "%q is neither", p)
			}
		}
	}
	h.judgeCertificate(c)
	h.judgeName(c)
}

// Files are those in the folder that are needed.
func (x Certificate) Files() (out []string) {
	list := []string{x.Chain, x.Key}
	if x.From != CertificateFiles {
		list = nil
	}
	if x.From == CertificateACME {
		list = []string{x.Credentials, x.Roots}
	}
	return slices.DeleteFunc(list, func(f string) bool { return f == "" })
}

func (h *Household) judgeFiles(c *complaints, files map[string]string) {
	const key = "remote.certificate."
	if f := h.Remote.Certificate.Folder; !path.IsAbs(f) || path.Clean(f) == "/" {
		c.bad(key+"folder", "write the whole path of the folder with the files, such as \"/etc/shelf-certificate\"",
			"%q is none", f)
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if value := files[name]; value == "" || path.IsAbs(value) || !filepath.IsLocal(value) {
			c.bad(key+name, "write the name of a file in the folder, such as \""+name+".pem\"", "%q is none", value)
		}
	}
}

func (h *Household) judgeCertificate(c *complaints) {
	const key = "remote.certificate."
	x := h.Remote.Certificate
	switch {
	case x.Port < 1 || x.Port > 65535:
		c.bad(key+"port", fmt.Sprintf("choose a port from 1 to 65535; %d is ours", DefaultHTTPS), "port %d is out of range",
			x.Port)
	case h.Remote.HTTPS() && x.Port == h.Server.Port:
		c.bad(key+"port", "choose another", "port %d is that of plain HTTP, under [server]", x.Port)
	}
	switch x.From {
	case CertificateFiles:
		h.judgeFiles(c, map[string]string{"chain": x.Chain, "key": x.Key})
	case CertificateACME:
		if !x.Agree {
			c.bad(key+"agree", "read the terms of the authority, and write agree = true", "its terms are not agreed to")
		}
		u, err := url.Parse(x.Authority)
		if x.Authority != "" && (err != nil || u.Scheme != "https" || u.Host == "") {
			c.bad(key+"authority", "write the address of its directory, such as "+PublicAuthority, "%q is none", x.Authority)
		}
		if at := strings.LastIndexByte(x.Contact, '@'); x.Contact != "" && (at < 1 || at == len(x.Contact)-1 ||
			strings.ContainsAny(x.Contact, " ,<>")) {
			c.bad(key+"contact", "write a mail address", "%q is none", x.Contact)
		}
		if len(x.Files()) > 0 {
			files := map[string]string{"credentials": x.Credentials, "roots": x.Roots}
			maps.DeleteFunc(files, func(_, v string) bool { return v == "" })
			h.judgeFiles(c, files)
		}
		if n := x.Nameserver; n != "" && strings.ContainsAny(n, " /@") {
			c.bad(key+"nameserver", "write a host, or host:port", "%q is none", n)
		}
		if len(PublicNames(NamesOf(h.Server.Names, h.Remote.Address))) == 0 {
			c.bad(key+"from", "write remote.address = \"https://shelf.example.net\", with your own name",
				"no name is known for which an authority could be asked")
		}
	}
}

func (h *Household) judgeLookup(c *complaints) {
	for key, s := range map[string]string{"wikidata": h.Lookup.Wikidata, "commons": h.Lookup.Commons,
		"musicbrainz": h.Lookup.MusicBrainz, "covers": h.Lookup.Covers} {
		if u, err := url.Parse(s); s != "" &&
			(err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "") {
			c.bad("lookup."+key, "write an address such as https://example.net/w/api.php", "%q is no address", s)
		}
	}
	if _, err := h.Lookup.PauseOf(); err != nil {
		c.bad("lookup.pause", "write a length from 1s to 1m; less, from 50ms on, where every catalogue's address is "+
			"one of "+
			"your own", "%v", err)
	}
}

func (h *Household) judgeShelves(c *complaints) {
	seen := map[string]bool{}
	for i, s := range h.Shelves {
		key := fmt.Sprintf("shelf[%d]", i)
		switch {
		case s.Name == "":
			c.bad(key, "write: name = \"films\"", "the shelf has no name")
		case !shelfName.MatchString(s.Name):
			c.bad(key+".name", "use small letters, digits and hyphens, 40 at most", "%q cannot be a shelf's "+
				"name", s.Name)
		case seen[s.Name]:
			c.bad(key+".name", "give each shelf a name of its own", "there are two shelves called %q", s.Name)
		}
		seen[s.Name] = true
		if s.Kind == "" {
			c.bad(key, "write: kind = \"films\"", "shelf %q has no kind", s.Name)
		}
		if s.Credentials != "" {
			if why := folderFault(s.Credentials); why != "" {
				c.bad(key+".credentials", "write the whole path of a file", "%s", why)
			} else if !slices.ContainsFunc(s.Folders, func(f string) bool { return strings.HasPrefix(f, "smb://") }) {
				c.bad(key+".credentials", "remove it", "no folder of shelf %q is a share as smb://", s.Name)
			}
		}
		if _, err := ParsePause(s.ScanEvery); s.ScanEvery != "" && s.ScanEvery != Never && err != nil {
			c.bad(key+".scan_every", "write day, week, never, or hours such as \"6h\"", "%v", err)
		}
		if len(s.Folders) == 0 {
			c.bad(key, "write: folders = [\"/srv/media/films\"]", "shelf %q has no folder", s.Name)
		}
		for j, f := range s.Folders {
			at := fmt.Sprintf("%s.folders[%d]", key, j)
			if IsShare(f) {
				if _, err := ParseShare(f); err != nil {
					c.bad(at,
						"write it as \"nfs://nas.home.arpa/export/films\" or "+
							"\"smb://nas.home.arpa/media/films\"", "%v", err)
				}
			} else if why := folderFault(f); why != "" {
				c.bad(at, "write the whole path of a folder", "%s", why)
			}
		}
	}
}

// judgePlaces finds folders that lie in one another.
func (h *Household) judgePlaces(c *complaints) {
	places := h.places()
	for i, a := range places {
		for _, b := range places[:i] {
			switch {
			case a.path == b.path:
				c.bad(a.key, "name each folder once", "%s is also %s", a.shown, b.what)
			case Within(a.path, b.path):
				c.bad(a.key, "keep them apart, or name only the outer one", "%s lies inside %s, %s", a.shown, b.shown,
					b.what)
			case Within(b.path, a.path):
				c.bad(a.key, "keep them apart, or name only the outer one", "%s contains %s, %s", a.shown, b.shown,
					b.what)
			}
		}
	}
}

// place is a folder that the household file names, and under which key.
type place struct{ key, path, what, shown string }

// places are the folders that are written as they should be.
func (h *Household) places() []place {
	var out []place
	add := func(key, folder, what string) {
		out = append(out, place{key, path.Clean(folder), what, path.Clean(folder)})
	}
	if h.Storage.State != "" {
		add("storage.state", h.Storage.State, "the state folder")
	}
	if h.Storage.Scratch != "memory" && strings.HasPrefix(h.Storage.Scratch, "/") {
		add("storage.scratch", h.Storage.Scratch, "the scratch folder")
	}
	if strings.HasPrefix(h.Backup.Folder, "/") {
		add("backup.folder", h.Backup.Folder, "the folder of backups")
	}
	for i, s := range h.Shelves {
		for j, f := range s.Folders {
			key, what := fmt.Sprintf("shelf[%d].folders[%d]", i, j), fmt.Sprintf("a folder of shelf %q", s.Name)
			if share, err := ParseShare(f); IsShare(f) && err == nil {
				out = append(out, place{key, share.place(), what, f})
			} else if !IsShare(f) && folderFault(f) == "" {
				add(key, f, what)
			}
		}
	}
	return out
}

// folderFault says why a path cannot name a folder, or nothing.
func folderFault(p string) string {
	switch {
	case !path.IsAbs(p):
		return fmt.Sprintf("%q does not begin with /", p)
	case path.Clean(p) == "/":
		return "the whole machine cannot be one folder of a shelf"
	case strings.ContainsRune(p, 0) || strings.ContainsAny(p, "\n\r"):
		return fmt.Sprintf("%q holds a control character", p)
	case slices.Contains(strings.Split(p, "/"), ".."):
		return fmt.Sprintf("%q holds \"..\"", p)
	}
	return ""
}

// IsShare reports whether a folder of a shelf is a share that the engine mounts,
// written as a URL.
func IsShare(folder string) bool { return strings.Contains(folder, "://") }

// Within reports whether the clean path p lies below the clean path outer. A
// path does not lie within itself.
func Within(p, outer string) bool {
	return p != outer && strings.HasPrefix(p, strings.TrimSuffix(outer, "/")+"/")
}

// IDs gives the numbers of a run_as written as "uid:gid".
func (s Server) IDs() (uid, gid uint32, ok bool) {
	m := idPair.FindStringSubmatch(s.RunAs)
	if m == nil {
		return 0, 0, false
	}
	var u, g uint64
	fmt.Sscan(m[1], &u)
	fmt.Sscan(m[2], &g)
	// The largest number is the kernel's "no such id".
	if u >= 1<<32-1 || g >= 1<<32-1 {
		return 0, 0, false
	}
	return uint32(u), uint32(g), true
}

// GroupNumber reads a group that is written as a number.
func GroupNumber(s string) (gid uint32, ok bool) {
	n, err := strconv.ParseUint(s, 10, 32)
	return uint32(n), err == nil
}

// Purpose is what a port is for.
type Purpose string

// ForPages is the port of the pages and the API.
const ForPages Purpose = "pages"

// ForHTTPS is the port of the same over HTTPS.
const ForHTTPS Purpose = "https"

// DefaultHTTPS is the port of HTTPS.
const DefaultHTTPS = 26943

// Listener is one port on which the household's server is reached.
type Listener struct {
	Purpose Purpose
	Inside  int // in a container with a network of its own
	Port    int // on the machine
	TLS     bool
}

// Listeners are all ports of the household's server.
func (h *Household) Listeners() []Listener {
	out := []Listener{{Purpose: ForPages, Inside: DefaultPort, Port: h.Server.Port}}
	if h.Remote.HTTPS() {
		out = append(out, Listener{Purpose: ForHTTPS, Inside: DefaultHTTPS, Port: h.Remote.Certificate.Port, TLS: true})
	}
	return out
}

// BindAddr is the address to listen on: the unspecified IPv6 address stands for
// every address of the machine, of either family.
func (s Server) BindAddr() (netip.Addr, error) {
	switch s.Bind {
	case "lan":
		return netip.IPv6Unspecified(), nil
	case "localhost":
		return netip.AddrFrom4([4]byte{127, 0, 0, 1}), nil
	}
	return netip.ParseAddr(s.Bind)
}

// ParseNetwork reads an address or a network in CIDR form.
func ParseNetwork(s string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(s); err == nil {
		a = a.Unmap().WithZone("")
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	return netip.ParsePrefix(s)
}

// Networks gives the trusted proxies as networks. It takes a checked household.
func (r Remote) Networks() []netip.Prefix { return Prefixes(r.TrustedProxies) }

// Prefixes gives addresses and networks of a checked household.
func Prefixes(list []string) []netip.Prefix {
	var out []netip.Prefix
	for _, s := range list {
		if p, err := ParseNetwork(s); err == nil {
			out = append(out, p)
		}
	}
	return out
}
