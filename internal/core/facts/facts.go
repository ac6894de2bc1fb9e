// Package facts holds what is known of a machine, as one value. The machine
// room fills it in; the core judges it. It can be written as JSON and read
// back, so decisions can be tested on machines that we do not have.
package facts

import (
	"time"

	"cozyshelf/internal/core/permit"
)

// Facts is what is known of a machine, as far as one household is concerned.
// Sizes are in bytes.
type Facts struct {
	Taken           time.Time `json:"taken"`
	OS              string    `json:"os"`
	Arch            string    `json:"arch"` // as Go names it: amd64, arm64, arm
	Kernel          string    `json:"kernel"`
	CPUs            int       `json:"cpus"`
	Memory          int64     `json:"memory"`
	MemoryAvailable int64     `json:"memory_available"`
	Timezone        string    `json:"timezone"` // empty where not known
	CallerUID       int       `json:"caller_uid"`
	Account         Account   `json:"account"`
	Engine          Engine    `json:"engine"`
	Port            Port      `json:"port"`
	State           Folder    `json:"state"`
	Scratch         *Folder   `json:"scratch,omitempty"` // nil where scratch is in memory
	Shelves         []Shelf   `json:"shelves"`
}

// Account is the run-as account.
type Account struct {
	Asked  string   `json:"asked"` // as the household file has it
	Known  bool     `json:"known"` // numbers are known; false where a name is not
	Name   string   `json:"name"`  // empty for numbers that no account has
	UID    uint32   `json:"uid"`
	GID    uint32   `json:"gid"`
	Groups []uint32 `json:"groups"` // the primary one first
	Why    string   `json:"why,omitempty"`
	// Proposal is an account of its own, where none is given or known.
	Proposal *Proposal `json:"proposal,omitempty"`
}

// Proposal is an account that could be made for the server alone: no login, no
// home, and only the groups that the shelves need.
type Proposal struct {
	Name     string   `json:"name"`
	Groups   []uint32 `json:"groups"`
	Commands []string `json:"commands"` // for a shell; none where this machine has no program for it
}

// Identity is the account as the kernel sees it.
func (a Account) Identity() permit.Identity {
	return permit.Identity{UID: a.UID, Groups: append([]uint32{a.GID}, a.Groups...)}
}

// Engine is the engine that will run the container, and how it was chosen.
type Engine struct {
	Kind     string `json:"kind"` // docker, podman, process
	Asked    string `json:"asked"`
	Why      string `json:"why"` // why this one
	Answers  bool   `json:"answers"`
	Error    string `json:"error,omitempty"`
	Fix      string `json:"fix,omitempty"`
	Version  string `json:"version"`
	API      string `json:"api"`
	Endpoint string `json:"endpoint"`
	Arch     string `json:"arch"`
	Rootless bool   `json:"rootless"` // it runs without root, or shifts ids by a user namespace
	Confined bool   `json:"confined"` // SELinux confines its containers
	// How ids inside are shifted; empty where they are not, or it is not known how.
	UIDs      []permit.IDRange `json:"uids,omitempty"`
	GIDs      []permit.IDRange `json:"gids,omitempty"`
	Elsewhere bool             `json:"elsewhere"` // on another machine: host folders are not this one's
}

// Identity is the account as the host's kernel will see it, with the engine's
// shift of ids. An id that is not mapped stays as it is.
func (e Engine) Identity(a Account) permit.Identity {
	id := a.Identity()
	if host, ok := permit.OnHost(e.UIDs, id.UID); ok {
		id.UID = host
	}
	for i, g := range id.Groups {
		if host, ok := permit.OnHost(e.GIDs, g); ok {
			id.Groups[i] = host
		}
	}
	return id
}

// Asks gives what to ask of a folder for an account: the identity that the
// host's kernel will see, and what is needed.
func (e Engine) Asks(a Account, write bool) (permit.Identity, permit.Need) {
	id := e.Identity(a)
	need := permit.Need{Write: write, Ancestors: e.Kind == "process", Confined: e.Confined}
	if inside := a.Identity(); len(e.UIDs)+len(e.GIDs) > 0 {
		need.Inside = &inside
	}
	return id, need
}

// Port is the port that will be listened on.
type Port struct {
	Address string `json:"address"` // address and port
	Free    bool   `json:"free"`
	Ours    bool   `json:"ours"`   // held by this household's own server
	Holder  string `json:"holder"` // who holds it, where that may be known
	Next    int    `json:"next"`   // the next free port after it; 0 where none is near
	Error   string `json:"error,omitempty"`
}

// Folder is a folder of the host.
type Folder struct {
	Path      string         `json:"path"`
	Real      string         `json:"real"` // with every link resolved; empty where it does not exist
	Exists    bool           `json:"exists"`
	IsFolder  bool           `json:"is_folder"`
	Parent    string         `json:"parent"`    // the nearest folder above that exists
	Creatable bool           `json:"creatable"` // the caller could make it
	FSType    string         `json:"fs_type"`
	ReadOnly  bool           `json:"read_only"`
	Free      int64          `json:"free"`
	Total     int64          `json:"total"`
	Error     string         `json:"error,omitempty"`
	Silent    bool           `json:"silent,omitempty"` // its disk or network does not answer
	Share     *Share         `json:"share,omitempty"`  // nil where it is a folder
	Access    *permit.Report `json:"access,omitempty"` // nil where it was not audited
	// Remedies are the ways to mend it, the least first.
	Remedies []permit.Remedy `json:"remedies,omitempty"`
}

// Share is a share that the engine is to mount.
type Share struct {
	Kind        string `json:"kind"`
	Host        string `json:"host"`
	Answers     bool   `json:"answers"` // at the protocol's port
	Error       string `json:"error,omitempty"`
	Credentials string `json:"credentials,omitempty"` // why they cannot be used
}

// Device is a device of the host.
type Device struct {
	Path   string `json:"path"`
	Mode   uint16 `json:"mode"`
	UID    uint32 `json:"uid"`
	GID    uint32 `json:"gid"`
	Group  string `json:"group"` // its name
	Driver string `json:"driver,omitempty"`
}

// Shelf is one shelf with its folders.
type Shelf struct {
	Name    string   `json:"name"`
	Write   bool     `json:"write"`
	Folders []Folder `json:"folders"`
}
