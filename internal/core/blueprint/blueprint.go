// Package blueprint draws everything that should exist on an engine for a
// household, and compares it with what is there: the outcome is an ordered list
// of changes. Both are values; nothing is touched here.
//
// # Services
//
// A blueprint is a list of services. One has the role of the server; others are further
// programs on the same storage. A service is a value that says everything about how it runs:
// where its image comes from, as whom, what it sees and listens on, how its health is found
// out, what it is forbidden. An engine does what the value says, and adds nothing of its own.
//
// A service's name, labels and settings all follow from its value, so the same household and
// program always give the same digest. The label holds the whole value: what runs can be read
// back, compared, and made once more, also by another version of this program.
//
// # Comparing
//
// [Compare] works service by service: a container is the old one of a service only where its
// label names that service. The changes are in an order that can be cut off anywhere: carried
// out half and compared again, they lead to the same end.
package blueprint

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"path"
	"strings"

	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/core/permit"
)

// Where things lie inside a container.
const (
	Program       = "/cozyshelf"
	StateInside   = "/state"
	FFmpegInside  = "/ffmpeg"               // folder of the image with ffmpeg, ffprobe and lib/
	FFmpegLoader  = FFmpegInside + "/ld.so" // what starts them
	ScratchInside = "/scratch"
	ShelvesInside = "/shelves"
	BackupsInside = "/backups"

	CertificateInside = "/certificate"
)

// Backups is the folder in the state folder for backups, where no other is named.
const Backups = layout.Backups

// Blueprint is everything that should exist.
type Blueprint struct {
	Engine    string
	Household string    // id
	Bare      bool      // what runs has no container: it is a process of the machine
	Services  []Service // the server, and what else runs; those that others wait for come first
	Volumes   []Volume  // of shares
	Settings  Settings
	// OwnerUID and OwnerGID are the account as the host numbers it, for the
	// folders that are made for it; another where the engine shifts ids.
	OwnerUID, OwnerGID uint32

	State   string // folders of the host; Scratch is empty where it is in memory
	Scratch string

	Backups string // folder of the host for the server's own backups; empty where it is in the state folder

	SettingsText []byte   // of a former deployment: as they were, whoever wrote them
	Unit         *Unit    // nil where systemd is not to start it
	KeptImages   []string // programs to keep: what runs, and what can be gone back to; nil where that is not known
	Store        string   // the backup whose store is to be put back; empty for none
	Backup       string   // where a backup goes before another program meets the store; empty for none
}

// Server is the household's server. It is zero where the blueprint has none.
func (b Blueprint) Server() Service {
	s, _ := b.Service(ServerKey)
	return s
}

// Service finds a service by its key.
func (b Blueprint) Service(key string) (Service, bool) {
	for _, s := range b.Services {
		if s.Key == key {
			return s, true
		}
	}
	return Service{}, false
}

// With gives a copy of the blueprint with other services.
func (b Blueprint) With(services ...Service) Blueprint {
	b.Services = sorted(services)
	return b
}

// Following gives a copy of the blueprint with what follows from what was deployed before:
// which programs are kept (nil where that is not known), and where a backup goes before
// another program meets the store.
func (b Blueprint) Following(kept []string, backup string) Blueprint {
	b.KeptImages, b.Backup = kept, backup
	return b
}

// Putting gives a copy of the blueprint that puts the store of a backup in place.
func (b Blueprint) Putting(store string) Blueprint {
	b.Store = store
	return b
}

// SettingsJSON is the text of the settings file.
func (b Blueprint) SettingsJSON() []byte {
	if b.SettingsText != nil {
		return b.SettingsText
	}
	return b.Settings.JSON()
}

// SettingsFile is the name of the settings file in the state folder.
func (b Blueprint) SettingsFile() string { return settingsFile(b.SettingsJSON()) }

// Settings is what the server needs of the household file. It is written into
// the state folder, named by its digest.
type Settings struct {
	Format          int                `json:"format"`
	Household       string             `json:"household"`
	Name            string             `json:"name"`
	Timezone        string             `json:"timezone"`
	Language        string             `json:"language"`
	UnknownAge      int                `json:"unknown_age"` // of films of which no age is known
	Listeners       []SettingsListener `json:"listeners"`
	State           string             `json:"state"`
	Scratch         string             `json:"scratch"`
	ScratchLimit    int64              `json:"scratch_limit"`
	Shelves         []SettingsShelf    `json:"shelves"`
	RemoteAddress   string             `json:"remote_address,omitempty"`
	TrustedProxies  []string           `json:"trusted_proxies,omitempty"`
	Names           []string           `json:"names,omitempty"`            // of this machine, by which it may be asked
	AllowedNetworks []string           `json:"allowed_networks,omitempty"` // from outside, alone
	RefusedNetworks []string           `json:"refused_networks,omitempty"`
	AllowPlain      bool               `json:"allow_plain,omitempty"`   // from outside over plain HTTP, too
	SecondFactor    string             `json:"second_factor"`           // who needs one from outside
	Administration  string             `json:"administration"`          // on the page, from where: home, anywhere, never
	History         int                `json:"history_days"`            // how long plays are kept with names; 0 for ever
	HistoryChoice   string             `json:"history_choice"`          // who may shorten that: members or household
	HidesClients    bool               `json:"hides_clients,omitempty"` // the engine's forwarding hides who connects
	Umask           uint32             `json:"umask"`
	LogLevel        string             `json:"log_level"`
	LogFormat       string             `json:"log_format"`
	Syslog          string             `json:"syslog,omitempty"` // a collector that is sent the log, too
	Backup          *SettingsBackup    `json:"backup,omitempty"`
	Lookup          *SettingsLookup    `json:"lookup,omitempty"`
	Quiet           *SettingsQuiet     `json:"quiet,omitempty"`
	Convert         *SettingsConvert   `json:"convert,omitempty"`

	Certificate *SettingsCertificate `json:"certificate,omitempty"` // nil for no HTTPS of the server's own

	// How the name of RemoteAddress is kept right; nil for not at all. What is secret of it lies in a file of its own.
	RemoteName *household.RemoteName `json:"remote_name,omitempty"`

	// Who is told of what happens. What is secret of it lies in a file of its own.
	Notices []household.Notice `json:"notices,omitempty"`
}

// SettingsCertificate says where the server's certificate comes from.
type SettingsCertificate struct {
	From      string `json:"from"`            // home, files, acme
	Chain     string `json:"chain,omitempty"` // the file, as mounted
	Key       string `json:"key,omitempty"`
	Authority string `json:"authority,omitempty"`
	Contact   string `json:"contact,omitempty"`

	Credentials string `json:"credentials,omitempty"` // files, as mounted
	Roots       string `json:"roots,omitempty"`
	Nameserver  string `json:"nameserver,omitempty"`
}

// SettingsListener is one address that the server listens on.
type SettingsListener struct {
	Purpose household.Purpose `json:"purpose"`
	Address string            `json:"address"` // and port, inside
	Port    int               `json:"port"`    // as published
	TLS     bool              `json:"tls,omitempty"`
}

// SettingsConvert says whether what a device does not play is made anew.
type SettingsConvert struct {
	Never    bool   `json:"never,omitempty"`
	Needed   bool   `json:"needed,omitempty"`         // somebody relies on it
	AtOnce   int    `json:"at_once,omitempty"`        // 0 for half the processors
	Measured bool   `json:"measured,omitempty"`       // as many at once as were measured
	Device   string `json:"device,omitempty"`         // none, or one alone; empty for every one that is there
	Ladder   []int  `json:"ladder,omitempty"`         // heights of pictures that are made; none for all
	Prepared int64  `json:"prepared_limit,omitempty"` // bytes; 0 where it is left out
}

// SettingsQuiet says what work is done at quiet hours, and when.
type SettingsQuiet struct {
	Work  []string `json:"work"`
	Hours string   `json:"hours"`
}

// SettingsLookup says which catalogues the server may ask, and where they are.
type SettingsLookup struct {
	Sources     []string `json:"sources"`
	Wikidata    string   `json:"wikidata"`
	Commons     string   `json:"commons"`
	MusicBrainz string   `json:"musicbrainz"`
	Covers      string   `json:"covers"`
	Pause       int64    `json:"pause,omitempty"` // between two requests, in nanoseconds; 0 for the usual
}

// SettingsBackup says when the server makes backups by itself.
type SettingsBackup struct {
	Every  string `json:"every"` // day, week, or a length such as 12h
	At     string `json:"at"`    // time of day
	Keep   int    `json:"keep"`
	Folder string `json:"folder"` // as mounted
	Shown  string `json:"shown"`  // as the administrator knows it
}

// SettingsShelf is one shelf as the server sees it.
type SettingsShelf struct {
	Name    string           `json:"name"`
	Kind    household.Kind   `json:"kind"`
	Access  household.Access `json:"access"`
	Folders []string         `json:"folders"` // as mounted
	Shown   []string         `json:"shown"`   // as the administrator wrote them
	Every   string           `json:"scan_every,omitempty"`
}

// JSON is the settings file's text.
func (s Settings) JSON() []byte {
	b, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		panic(err) // plain values only
	}
	return append(b, '\n')
}

// File is the name of the settings file in the state folder.
func (s Settings) File() string { return settingsFile(s.JSON()) }

func settingsFile(text []byte) string {
	return strings.Replace(layout.Settings, "*", digestOf(text)[:16], 1)
}

func digestOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// ID is the id of a household: it follows from where its state lies, so two
// households on one machine never share one, and no file has to be read for it.
func ID(state string) string { return digestOf([]byte("state\n" + path.Clean(state)))[:12] }

// Site is what Draw needs to know beside the household file.
type Site struct {
	Engine  string // docker, podman or process, for people
	Can     facts.Capabilities
	UID     uint32
	GID     uint32
	Groups  []uint32                        // with those of the devices
	Stamp   func(credentials string) string // changes when the file does; nil where there are none
	Image   string                          // as in Container
	Version string
	FFmpeg  string   // version of the ffmpeg in the image; empty where there is none
	Names   []string // by which this machine is known
	// HidesClients says that the engine forwards connections by itself, so that all seem to
	// come from its own network.
	HidesClients bool
	IPv6         bool // the engine's own networks carry IPv6
	// Host is the account as the host numbers it, where the engine shifts ids.
	Host permit.Identity
	// Spread tells whether a folder lies on a shared mount, so that later mounts are seen inside; nil for no.
	Spread func(folder string) bool
	// Boot says how systemd starts a service; nil where it is not to.
	Boot func(Service) (Boot, bool)
	// Units is where systemd reads units, and OwnUnits that it is an account's own systemd.
	Units    string
	OwnUnits bool
}
