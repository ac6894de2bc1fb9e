// Package blueprint draws everything that should exist on an engine for a
// household, and compares it with what is there: the outcome is an ordered list
// of changes. Both are values; nothing is touched here.
//
// A container's name, labels and settings all follow from the blueprint, so the
// same household and program always give the same digest.
package blueprint

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"net/netip"
	"path"
	"slices"
	"strings"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/layout"
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
)

// Backups is the folder in the state folder for backups, where no other is named.
const Backups = layout.Backups

// Labels of everything of ours on an engine. What carries no household label
// of ours is never touched.
const (
	LabelHousehold = "cozyshelf.household" // the household's id
	LabelName      = "cozyshelf.name"      // the household's name, for people
	LabelDigest    = "cozyshelf.blueprint" // digest of the container below
	LabelContainer = "cozyshelf.container" // the container as JSON, to tell what changed
	LabelOnce      = "cozyshelf.once"      // on a throw-away container: what it is for
	LabelProgram   = "cozyshelf.program"   // on images: the program's version
)

// Mount is a folder of the host inside the container.
type Mount struct {
	Source   string `json:"source"`
	Target   string `json:"target"`
	ReadOnly bool   `json:"read_only"`
	What     string `json:"what"`             // for people: "state", "scratch", "backups", or the shelf's name
	Volume   bool   `json:"volume,omitempty"` // Source is a volume of the engine
	Shown    string `json:"shown,omitempty"`  // of a volume: the share, as the administrator wrote it
}

// Role is what a mount is for.
type Role string

// The roles of mounts.
const (
	RoleState   Role = "state"
	RoleScratch Role = "scratch"
	RoleBackups Role = "backups"
	RoleShelf   Role = "shelf"
)

// Role says what a mount is for: its place inside does, whatever a shelf is called.
func (m Mount) Role() Role {
	switch m.Target {
	case StateInside:
		return RoleState
	case ScratchInside:
		return RoleScratch
	case BackupsInside:
		return RoleBackups
	}
	return RoleShelf
}

// Container is one container as it should be. For the process engine, which
// has none, the same value describes the process.
type Container struct {
	Household string            `json:"household"` // id
	Name      string            `json:"household_name"`
	Image     string            `json:"image"` // digest of the program, or of it and ffmpeg, "sha256:…"
	Version   string            `json:"version"`
	FFmpeg    string            `json:"ffmpeg,omitempty"` // version of the one in the image
	Command   []string          `json:"command"`          // after the program
	UID       uint32            `json:"uid"`
	GID       uint32            `json:"gid"`
	Groups    []uint32          `json:"groups"` // supplementary
	Devices   []string          `json:"devices,omitempty"`
	Env       map[string]string `json:"env"`
	Mounts    []Mount           `json:"mounts"`
	Tmpfs     int64             `json:"tmpfs"`               // size of scratch in memory, in bytes; 0 where it is a folder
	Memory    int64             `json:"memory"`              // limit in bytes, scratch in memory counted
	Pids      int64             `json:"pids"`                // limit
	NanoCPUs  int64             `json:"nano_cpus,omitempty"` // limit, in billionths of a core; 0 for none
	LogLimit  int64             `json:"log_limit"`           // bytes of log that are kept
	Network   string            `json:"network"`             // name on the engine; "host" for the host's own
	OwnNet    bool              `json:"own_network"`
	Host      string            `json:"host"` // address published on
	Port      int               `json:"port"`
	State     string            `json:"state"`    // on the host
	Settings  string            `json:"settings"` // digest of the settings
	Start     household.Start   `json:"start"`
	DNS       []string          `json:"dns,omitempty"`
	Hosts     []string          `json:"hosts,omitempty"` // name=address

	// label is the text that a container was read from: another program may have
	// written more into it, or less.
	label string
}

// Blueprint is everything that should exist.
type Blueprint struct {
	Engine    string
	Container Container
	Volumes   []Volume // of shares
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
	Format         int             `json:"format"`
	Household      string          `json:"household"`
	Name           string          `json:"name"`
	Timezone       string          `json:"timezone"`
	Language       string          `json:"language"`
	Listen         string          `json:"listen"` // address and port
	Port           int             `json:"port"`   // as published
	State          string          `json:"state"`
	Scratch        string          `json:"scratch"`
	ScratchLimit   int64           `json:"scratch_limit"`
	Shelves        []SettingsShelf `json:"shelves"`
	RemoteAddress  string          `json:"remote_address,omitempty"`
	TrustedProxies []string        `json:"trusted_proxies,omitempty"`
	Names          []string        `json:"names,omitempty"`         // of this machine, by which it may be asked
	AllowPlain     bool            `json:"allow_plain,omitempty"`   // from outside over plain HTTP, too
	HidesClients   bool            `json:"hides_clients,omitempty"` // the engine's forwarding hides who connects
	Umask          uint32          `json:"umask"`
	LogLevel       string          `json:"log_level"`
	LogFormat      string          `json:"log_format"`
	Backup         *SettingsBackup `json:"backup,omitempty"`
	Lookup         *SettingsLookup `json:"lookup,omitempty"`
	Quiet          *SettingsQuiet  `json:"quiet,omitempty"`
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
	Engine  string // docker, podman or process
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
}

// NetworkIPv6 ends the name of a network of the household's own that carries IPv6, so that
// one that does not is replaced by it.
const NetworkIPv6 = "-ipv6"

// Draw draws the blueprint.
func Draw(h *household.Household, s Site) Blueprint {
	site := s
	process := s.Engine == "process"
	id := ID(h.Storage.State)
	bind, _ := h.Server.BindAddr() // checked when the file was read
	set := Settings{
		Format: 1, Household: id, Name: h.Household.Name, Timezone: h.Household.Timezone, Language: h.Household.Language,
		State: StateInside, Scratch: ScratchInside, ScratchLimit: int64(h.Storage.ScratchLimit), Port: h.Server.Port,
		Listen:        netip.AddrPortFrom(netip.IPv6Unspecified(), household.DefaultPort).String(),
		RemoteAddress: strings.TrimSuffix(h.Remote.Address, "/"), TrustedProxies: h.Remote.TrustedProxies, AllowPlain: h.Remote.AllowPlain,
		Names: slices.Concat(s.Names, h.Server.Names), HidesClients: s.Engine != "process" &&
			h.HidesClients(s.HidesClients, s.IPv6),
	}
	c := Container{
		Household: id, Name: h.Household.Name, Image: s.Image, Version: s.Version, FFmpeg: s.FFmpeg,
		UID: s.UID, GID: s.GID, Groups: slices.Sorted(slices.Values(s.Groups)),
		Env:      map[string]string{"TZ": h.Household.Timezone},
		NanoCPUs: int64(h.Server.Processors * 1e9), LogLimit: int64(h.Server.LogLimit),
		Pids: 512, Memory: int64(h.Server.Memory), Host: bind.String(), Port: h.Server.Port, State: h.Storage.State,
	}
	set.Umask, set.LogLevel, set.LogFormat = h.Server.UmaskBits(), h.Server.LogLevel, h.Server.LogFormat
	c.Devices, c.Start, c.DNS = h.Server.Devices, h.Server.Start, h.Server.DNS
	for name, addr := range h.Server.Hosts {
		c.Hosts = append(c.Hosts, name+"="+addr)
	}
	slices.Sort(c.Hosts)
	c.Groups = slices.DeleteFunc(c.Groups, func(g uint32) bool { return g == s.GID })
	bp := Blueprint{Engine: s.Engine, OwnerUID: s.UID, OwnerGID: s.GID, State: h.Storage.State}
	// The Go runtime keeps its own part below the limit, with room for what it
	// does not count.
	if n := int(math.Ceil(h.Server.Processors)); n > 0 {
		// One at least for what takes long, and one for what must not wait for it.
		c.Env["GOMAXPROCS"] = fmt.Sprint(max(2, n))
	}
	c.Env["GOMEMLIMIT"] = fmt.Sprint(int64(h.Server.Memory) * 9 / 10)
	switch {
	case process:
		set.State = h.Storage.State
		set.Listen = netip.AddrPortFrom(bind, uint16(h.Server.Port)).String()
		c.Network = "host"
	case h.Server.Network == "host":
		set.Listen = netip.AddrPortFrom(bind, uint16(h.Server.Port)).String()
		c.Network = "host"
	case h.Server.Network == "own":
		c.Network, c.OwnNet = "cozyshelf-"+id, true
		if s.IPv6 {
			c.Network += NetworkIPv6
		}
	default:
		c.Network = h.Server.Network
	}
	if c.Network != "host" && bind.IsUnspecified() && !(c.OwnNet && s.IPv6) {
		// The network has no IPv6. Published on it all the same, whoever comes
		// by it would seem to come from the engine's gateway, which is at home.
		c.Host = netip.IPv4Unspecified().String()
	}
	c.Mounts = append(c.Mounts, Mount{Source: h.Storage.State, Target: StateInside, What: "state"})
	if h.Storage.Scratch == "memory" {
		if process {
			// A process has no mounts of its own: scratch lies in the state
			// folder, under the same bound.
			set.Scratch = path.Join(h.Storage.State, layout.Scratch)
		} else {
			c.Tmpfs = int64(h.Storage.ScratchLimit)
			c.Memory += c.Tmpfs
		}
	} else {
		bp.Scratch = h.Storage.Scratch
		c.Mounts = append(c.Mounts, Mount{Source: h.Storage.Scratch, Target: ScratchInside, What: "scratch"})
		if process {
			set.Scratch = h.Storage.Scratch
		}
	}
	if b := h.Backup; b.Every != "" {
		set.Backup = &SettingsBackup{Every: b.Every, At: b.At, Keep: b.Keep, Folder: path.Join(set.State, Backups), Shown: path.Join(h.Storage.State, Backups)}
		if b.Folder != "" {
			set.Backup.Folder, set.Backup.Shown, bp.Backups = BackupsInside, b.Folder, b.Folder
			if process {
				set.Backup.Folder = b.Folder
			}
			c.Mounts = append(c.Mounts, Mount{Source: path.Clean(b.Folder), Target: BackupsInside, What: "backups"})
		}
	}
	if l := h.Lookup; len(l.Sources) > 0 {
		pause, _ := l.PauseOf() // checked when the file was read
		set.Lookup = &SettingsLookup{Pause: int64(pause), Sources: l.Sources,
			Wikidata: cmp.Or(l.Wikidata, household.PublicWikidata), Commons: cmp.Or(l.Commons, household.PublicCommons),
			MusicBrainz: cmp.Or(l.MusicBrainz, household.PublicMusicBrainz), Covers: cmp.Or(l.Covers, household.PublicCovers)}
	}
	if q := h.Quiet; len(q.Work) > 0 {
		set.Quiet = &SettingsQuiet{q.Work, cmp.Or(q.Hours, household.QuietHours)}
	}
	for _, s := range h.Shelves {
		in := SettingsShelf{Name: s.Name, Kind: s.Kind, Access: s.Access, Shown: s.Folders, Every: s.ScanEvery}
		for i, f := range s.Folders {
			target := path.Join(ShelvesInside, s.Name, fmt.Sprint(i+1))
			if household.IsShare(f) {
				v := volume(h, s, i, site)
				bp.Volumes = append(bp.Volumes, v)
				c.Mounts = append(c.Mounts, Mount{v.Name, target, s.Access != household.Change, s.Name, true, f})
				in.Folders = append(in.Folders, target)
				continue
			}
			c.Mounts = append(c.Mounts, Mount{Source: path.Clean(f), Target: target, ReadOnly: s.Access != household.Change, What: s.Name})
			if process {
				target = path.Clean(f)
			}
			in.Folders = append(in.Folders, target)
		}
		set.Shelves = append(set.Shelves, in)
	}
	c.Settings = digestOf(set.JSON())[:16]
	c.Command = []string{"serve", "--settings", path.Join(set.State, set.File())}
	bp.Container, bp.Settings = c, set
	return bp
}

// Shelves are the mounts of shelves, in their order.
func (c Container) Shelves() []Mount {
	return slices.DeleteFunc(slices.Clone(c.Mounts), func(m Mount) bool { return m.Role() != RoleShelf })
}

// Once is the container for a throw-away run: the same account, shelves and
// limits, with neither state nor scratch, and no network.
func (c Container) Once(command []string) Container {
	c.Mounts, c.Command, c.label = c.Shelves(), command, ""
	c.Memory -= c.Tmpfs
	c.Tmpfs, c.Network, c.OwnNet, c.Port, c.Host, c.Settings = 0, "none", false, 0, "", ""
	return c
}

// text is the container as JSON: as it was read, or as it is.
func (c Container) text() string {
	if c.label != "" {
		return c.label
	}
	b, err := json.Marshal(c)
	if err != nil {
		panic(err) // plain values only
	}
	return string(b)
}

// Digest names a container as it should be.
func (c Container) Digest() string { return digestOf([]byte(c.text())) }

// EngineName is the container's name on the engine: readable, and its own for
// every blueprint, so that old and new can stand side by side.
func (c Container) EngineName() string { return "cozyshelf-" + Slug(c.Name) + "-" + c.Digest()[:8] }

// Slug writes a household's name with small letters, digits and hyphens.
func Slug(name string) string {
	slug := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, name), "-")
	for strings.Contains(slug, "--") {
		slug = strings.ReplaceAll(slug, "--", "-")
	}
	if len(slug) > 30 {
		slug = strings.Trim(slug[:30], "-")
	}
	if slug == "" {
		slug = "household"
	}
	return slug
}

// Labels are those of the container.
func (c Container) Labels() map[string]string {
	return map[string]string{LabelHousehold: c.Household, LabelName: c.Name, LabelDigest: c.Digest(), LabelContainer: c.text()}
}

// FromLabels reads a container back, also one that another version of the program
// made. ok is false where the labels are not ours or do not agree with each other.
func FromLabels(labels map[string]string) (c Container, ok bool) {
	text := labels[LabelContainer]
	if err := json.Unmarshal([]byte(text), &c); err != nil {
		return c, false
	}
	c.label = text
	return c, digestOf([]byte(text)) == labels[LabelDigest] && c.Household == labels[LabelHousehold]
}
