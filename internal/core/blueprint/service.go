package blueprint

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/household"
)

// Labels of everything of ours on an engine. What carries no household label
// of ours is never touched.
const (
	LabelHousehold = "cozyshelf.household" // the household's id
	LabelName      = "cozyshelf.name"      // the household's name, for people
	LabelService   = "cozyshelf.service"   // which of the household's services; missing for its server
	LabelRole      = "cozyshelf.role"      // the service's role; missing for a server of former builds
	LabelDigest    = "cozyshelf.blueprint" // digest of the service below
	LabelContainer = "cozyshelf.container" // the service as JSON, to tell what changed
	LabelOnce      = "cozyshelf.once"      // on a throw-away container: what it is for
	LabelProgram   = "cozyshelf.program"   // on images: the program's version
)

// Role is what a service is for.
type Role string

// The roles of services.
const (
	RoleServer    Role = "server"    // serves the household; there is one
	RoleCompanion Role = "companion" // another program on the same storage
	RoleConverter Role = "converter" // converts for the server
)

// ServerKey names the server among the services of a household.
const ServerKey = string(RoleServer)

// MountRole is what a mount is for.
type MountRole string

// The roles of mounts.
const (
	MountState   MountRole = "state"
	MountScratch MountRole = "scratch"
	MountBackups MountRole = "backups"
	MountShelf   MountRole = "shelf"
	// MountCertificate is the folder of certificates that somebody else renews.
	MountCertificate MountRole = "certificate"
)

// Mount is a folder of the host inside the service.
type Mount struct {
	Role     MountRole `json:"role"`
	Source   string    `json:"source"`
	Target   string    `json:"target"`
	ReadOnly bool      `json:"read_only"`
	What     string    `json:"what"`             // for people: "state", "scratch", "backups", or the shelf's name
	Volume   bool      `json:"volume,omitempty"` // Source is a volume of the engine
	Shown    string    `json:"shown,omitempty"`  // of a volume: the share, as the administrator wrote it
	// Spread is whether what is mounted below the folder later appears inside, too: the folder
	// lies on a shared mount.
	Spread bool `json:"spread,omitempty"`
}

// formerRole is the role of a mount that a former build wrote: its place inside tells.
func formerRole(target string) MountRole {
	switch target {
	case StateInside:
		return MountState
	case ScratchInside:
		return MountScratch
	case BackupsInside:
		return MountBackups
	}
	return MountShelf
}

// Place is where a mount comes from, as the administrator wrote it.
func (m Mount) Place() string {
	if m.Volume {
		return m.Shown
	}
	return m.Source
}

// Image says where the image of a service comes from. One of Program, Reference and Archive
// is set.
type Image struct {
	Program   string `json:"program,omitempty"`   // digest of this program, or of it and ffmpeg, "sha256:…"
	Reference string `json:"reference,omitempty"` // a name under which the engine has an image
	Archive   string `json:"archive,omitempty"`   // an archive file of the host, as engines save images
	Digest    string `json:"digest,omitempty"`    // of the archive's bytes, "sha256:…"; checked before it is used
}

// NetworkName is what an engine calls the service's network: one that has none gets none.
func (s Service) NetworkName() string { return cmp.Or(s.Network, "none") }

// UnmarshalJSON also reads what former builds wrote: the digest of the program alone.
func (i *Image) UnmarshalJSON(b []byte) error {
	if bytes.HasPrefix(bytes.TrimSpace(b), []byte(`"`)) {
		*i = Image{}
		return json.Unmarshal(b, &i.Program)
	}
	type plain Image
	return json.Unmarshal(b, (*plain)(i))
}

// Key names the image among those that an engine has (Observed.Images): the digest of a
// program, a reference, or the name that an archive gets there.
func (i Image) Key() string {
	switch {
	case i.Reference != "":
		return i.Reference
	case i.Archive != "":
		return ArchiveName(i.Digest)
	}
	return i.Program
}

// ArchiveName is the name that the image of an archive gets on an engine.
func ArchiveName(digest string) string { return "cozyshelf-archive:" + short(digest) }

// String says what the image is, for people.
func (i Image) String() string {
	switch {
	case i.Reference != "":
		return i.Reference
	case i.Archive != "":
		return i.Archive
	}
	return short(i.Program)
}

// ForPages is the listener for the pages and the API.
const ForPages = household.ForPages

// Listener is a port on which a service listens.
type Listener struct {
	Purpose household.Purpose `json:"purpose"`
	Inside  int               `json:"inside"` // port that the service itself listens on
	Host    string            `json:"host"`   // address of the machine that it is published on
	Port    int               `json:"port"`   // as published
	TLS     bool              `json:"tls,omitempty"`
}

// Health is how an engine sees whether a service is well. Without a command it does not look.
type Health struct {
	Command  []string      `json:"command,omitempty"` // run inside, without a shell
	Interval time.Duration `json:"interval,omitempty"`
	Timeout  time.Duration `json:"timeout,omitempty"`
	Start    time.Duration `json:"start,omitempty"` // while it starts, failures do not count
	Retries  int           `json:"retries,omitempty"`
}

// Hardening is what a service may do that is forbidden by default: the zero value is closed.
type Hardening struct {
	WritableRoot  bool     `json:"writable_root,omitempty"`  // may change its own root file system
	NewPrivileges bool     `json:"new_privileges,omitempty"` // programs that it runs may gain privileges
	Capabilities  []string `json:"capabilities,omitempty"`   // kept, as the kernel names them
}

// Secret is a file of the host that a service may read. What is in it never leaves the host.
type Secret struct {
	Name string `json:"name"` // inside it is /run/secrets/NAME
	File string `json:"file"` // on the host
}

// SecretsInside is the folder with the secrets of a service.
const SecretsInside = "/run/secrets"

// Service is one thing that runs for a household, as it should be. For the process engine,
// which has no containers, the same value describes the process.
type Service struct {
	Household string `json:"household"` // id
	Name      string `json:"household_name"`
	Key       string `json:"service"` // which of the household's services: ServerKey, or a name of its own
	Role      Role   `json:"role"`

	Image   Image             `json:"image"`
	Version string            `json:"version"`          // of the program
	FFmpeg  string            `json:"ffmpeg,omitempty"` // version of the one in the image
	Command []string          `json:"command"`          // after the program
	Env     map[string]string `json:"env"`

	UID     uint32   `json:"uid"`
	GID     uint32   `json:"gid"`
	Groups  []uint32 `json:"groups"` // supplementary
	Devices []string `json:"devices,omitempty"`
	GPUs    []string `json:"gpus,omitempty"` // NVIDIA's, by number, which the engine brings with their driver

	Mounts  []Mount  `json:"mounts"`
	Secrets []Secret `json:"secrets,omitempty"`
	Tmpfs   int64    `json:"tmpfs"` // size of scratch in memory, in bytes; 0 where it is a folder

	Memory    int64     `json:"memory"`              // limit in bytes, scratch in memory counted; 0 for none
	Pids      int64     `json:"pids"`                // limit; 0 for none
	NanoCPUs  int64     `json:"nano_cpus,omitempty"` // limit, in billionths of a core; 0 for none
	LogLimit  int64     `json:"log_limit"`           // bytes of log that are kept
	Hardening Hardening `json:"hardening"`
	Health    Health    `json:"health"`

	Network   string     `json:"network"` // name on the engine; "host" for the host's own; empty for none
	OwnNet    bool       `json:"own_network"`
	Listeners []Listener `json:"listeners,omitempty"`
	DNS       []string   `json:"dns,omitempty"`
	Hosts     []string   `json:"hosts,omitempty"` // name=address

	State    string          `json:"state"`    // on the host
	Settings string          `json:"settings"` // digest of the settings
	Start    household.Start `json:"start"`
	After    []string        `json:"after,omitempty"` // keys of the services that must be healthy first

	// label is the text that a service was read from: another program may have
	// written more into it, or less.
	label string
}

// Port is the port on which the pages are published; 0 for none.
func (s Service) Port() int {
	for _, l := range s.Listeners {
		if l.Purpose == ForPages {
			return l.Port
		}
	}
	return 0
}

// Shelves are the mounts of shelves, in their order.
func (s Service) Shelves() []Mount {
	return slices.DeleteFunc(slices.Clone(s.Mounts), func(m Mount) bool { return m.Role != MountShelf })
}

// Once is the service for a throw-away run: the same account, shelves and
// limits, with neither state nor scratch, and no network.
func (s Service) Once(command []string) Service {
	s.Mounts, s.Command, s.label = s.Shelves(), command, ""
	s.Memory -= s.Tmpfs
	s.Tmpfs, s.Network, s.OwnNet, s.Settings = 0, "none", false, ""
	s.Listeners, s.Secrets, s.After, s.Health = nil, nil, nil, Health{}
	return s
}

// text is the service as JSON: as it was read, or as it is.
func (s Service) text() string {
	if s.label != "" {
		return s.label
	}
	b, err := json.Marshal(s)
	if err != nil {
		panic(err) // plain values only
	}
	return string(b)
}

// Digest names a service as it should be.
func (s Service) Digest() string { return digestOf([]byte(s.text())) }

// EngineName is the service's name on the engine: readable, and its own for
// every blueprint, so that old and new can stand side by side.
func (s Service) EngineName() string {
	name := "cozyshelf-" + Slug(s.Name)
	if s.Key != ServerKey {
		name += "-" + Slug(s.Key)
	}
	return name + "-" + s.Digest()[:8]
}

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

// Labels are those of the service's container.
func (s Service) Labels() map[string]string {
	return map[string]string{LabelHousehold: s.Household, LabelName: s.Name, LabelService: s.Key,
		LabelRole: string(s.Role), LabelDigest: s.Digest(), LabelContainer: s.text()}
}

// FromLabels reads a service back, also one that another version of the program
// made. ok is false where the labels are not ours or do not agree with each other.
func FromLabels(labels map[string]string) (s Service, ok bool) {
	text := labels[LabelContainer]
	var in struct {
		Service
		// As former builds wrote it, whose server listened on one port.
		FormerHost string `json:"host"`
		FormerPort int    `json:"port"`
	}
	if err := json.Unmarshal([]byte(text), &in); err != nil {
		return s, false
	}
	s = in.Service
	s.label = text
	if s.Role == "" {
		s.Role, s.Key = RoleServer, ServerKey
		if in.FormerPort > 0 {
			s.Listeners = []Listener{{Purpose: ForPages, Inside: household.DefaultPort,
				Host: in.FormerHost, Port: in.FormerPort}}
		}
		for i, m := range s.Mounts {
			s.Mounts[i].Role = formerRole(m.Target)
		}
	}
	return s, digestOf([]byte(text)) == labels[LabelDigest] && s.Household == labels[LabelHousehold]
}

// KeyOf tells which service of its household a container is, from its labels, also where the
// rest of them cannot be read.
func KeyOf(labels map[string]string) string {
	if key := labels[LabelService]; key != "" {
		return key
	}
	return ServerKey // former builds had no other
}

// serverHealth is how an engine sees whether a server is well.
func serverHealth() Health {
	return Health{Command: []string{Program, "healthcheck", "--state", StateInside},
		Interval: 15 * time.Second, Timeout: 5 * time.Second, Start: 10 * time.Second, Retries: 3}
}

// secretMount is where a secret lies inside.
func (s Secret) Inside() string { return path.Join(SecretsInside, s.Name) }

func short(digest string) string {
	_, hash, ok := strings.Cut(digest, ":")
	if !ok {
		hash = digest
	}
	return hash[:min(12, len(hash))]
}

// sorted gives the services in the order in which they are started: those that others wait
// for come first. Where they wait for each other in a circle, the order is as it was.
func sorted(list []Service) []Service {
	var out []Service
	done := map[string]bool{}
	for len(out) < len(list) {
		grew := false
		for _, s := range list {
			waits := slices.ContainsFunc(s.After, func(k string) bool {
				return !done[k] && k != s.Key && slices.ContainsFunc(list, func(o Service) bool { return o.Key == k })
			})
			if !done[s.Key] && !waits {
				out, done[s.Key], grew = append(out, s), true, true
			}
		}
		if grew {
			continue
		}
		for _, s := range list {
			if !done[s.Key] {
				out, done[s.Key] = append(out, s), true
			}
		}
	}
	return out
}

// describe names a service for people.
func (s Service) describe() string {
	if s.Role == RoleServer {
		return "the server"
	}
	return fmt.Sprintf("%s %s", s.Role, s.Key)
}
