// Package facts holds what is known of a machine, as one value. The machine
// room fills it in; the core judges it. It can be written as JSON and read
// back, so decisions can be tested on machines that we do not have.
//
// A fact is something that was seen, never a judgement: that a port is taken and by whom, not
// that this is bad. What could not be found out is said so, by an error in its place or an empty
// value, and is never guessed.
package facts

import (
	"slices"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
)

// Facts is what is known of a machine, as far as one household is concerned.
// Sizes are in bytes.
type Facts struct {
	Taken           time.Time `json:"taken_at"`
	Program         string    `json:"program"` // version of the program that looks; empty where that does not matter
	OS              string    `json:"os"`
	Arch            string    `json:"arch"`    // as Go names it: amd64, arm64, arm
	Machine         string    `json:"machine"` // as the kernel names it: x86_64, aarch64, armv7l
	Kernel          string    `json:"kernel"`
	Processor       string    `json:"processor"` // empty where the kernel does not tell
	CPUs            int       `json:"cpus"`
	WordBits        int       `json:"word_bits"` // of this program: 32 or 64
	Memory          int64     `json:"memory"`
	MemoryAvailable int64     `json:"memory_available"`
	SharedMemory    int64     `json:"shared_memory"` // size of /dev/shm
	Timezone        string    `json:"timezone"`      // empty where not known
	Clock           Clock     `json:"clock"`
	Graphics        []Device  `json:"graphics"` // in /dev/dri
	Devices         []Device  `json:"devices"`  // those that the household file maps, as far as they are there
	Cgroup          Cgroup    `json:"cgroup"`
	Security        Security  `json:"security"`
	// HTTPSFirewall is what the packet filter says of the port of HTTPS; nil where there is none.
	HTTPSFirewall *Firewall `json:"https_firewall,omitempty"`
	Firewall      Firewall  `json:"firewall"`
	CallerUID     int       `json:"caller_uid"`
	Account       Account   `json:"account"`
	Engine        Engine    `json:"engine"`
	Others        []Other   `json:"others,omitempty"` // other engines that the household is deployed on
	Left          []string  `json:"left,omitempty"`   // what commands that were cut off left behind, a line each
	Ports         []Port    `json:"ports"`            // one for each listener of the household
	State         Folder    `json:"state"`
	Scratch       *Folder   `json:"scratch,omitempty"` // nil where scratch is in memory
	Backups       *Folder   `json:"backups,omitempty"` // nil where they are not made, or lie in the state folder
	// Certificate is the folder of a certificate that somebody else renews; nil where there is none.
	Certificate *Folder `json:"certificate,omitempty"`
	// CertificateMissing are the files that are not in it.
	CertificateMissing []string `json:"certificate_missing,omitempty"`
	// Notices are those who are told of what happens.
	Notices []Notice `json:"notices,omitempty"`
	Units   string   `json:"units"`            // where systemd reads units; empty where there is none
	FFmpeg  *FFmpeg  `json:"ffmpeg,omitempty"` // nil where no work is asked for that needs it
	Shelves []Shelf  `json:"shelves"`
}

// Notice is what was seen of a receiver of notices.
type Notice struct {
	Name   string `json:"name"`
	File   string `json:"file"`             // of its secret, or its program; empty where it needs none
	Fault  string `json:"fault,omitempty"`  // why that cannot be used
	Secret int    `json:"secret,omitempty"` // how many bytes the secret has
}

// Other is another engine than the one that is asked for, with a container of the
// household.
type Other struct {
	Kind      string `json:"kind"`
	Container string `json:"container"`
	Running   bool   `json:"running"`
}

// PortHolders are programs that hold a port for a container.
var PortHolders = []string{"docker-proxy", "rootlessport", "conmon"}

// FFmpeg is the ffmpeg of this machine, with ffprobe.
type FFmpeg struct {
	Version string `json:"version"`        // empty where there is none
	Size    int64  `json:"size"`           // with all libraries, in bytes
	Why     string `json:"why"`            // why there is none
	Ways    []Way  `json:"ways,omitempty"` // how pictures can be made anew; only where that was tried
}

// Way is a way to make pictures anew that was tried with half a second of film.
type Way struct {
	Name     string `json:"name"`
	Hardware bool   `json:"hardware"`
	Why      string `json:"why,omitempty"` // why it does not work
}

// Clock is the machine's clock.
type Clock struct {
	Now          time.Time `json:"now_at"`
	Known        bool      `json:"known"`        // the next is known
	Synchronised bool      `json:"synchronised"` // something keeps it right
}

// Cgroup is what control groups can do here.
type Cgroup struct {
	Known   bool `json:"known"`
	Version int  `json:"version"` // 1 or 2
	Memory  bool `json:"memory"`  // memory can be limited
	Pids    bool `json:"pids"`    // the number of processes can be limited
}

// Security is which of the kernel's guards are at work.
type Security struct {
	SELinux        string `json:"selinux"` // enforcing, permissive, or empty
	AppArmor       bool   `json:"apparmor"`
	UserNamespaces bool   `json:"user_namespaces"`
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
	// Missing is that the name is well formed, and no account has it.
	Missing bool `json:"missing,omitempty"`
	// Proposal is an account of its own, where none is given or known.
	Proposal *Proposal `json:"proposal,omitempty"`
}

// Proposal is an account that could be made for the server alone: no login, no
// home, and only the groups that the shelves need.
type Proposal struct {
	Name   string   `json:"name"`
	Groups []uint32 `json:"groups"`
	// Nameless are those of the groups that have no name on this machine: no account can be
	// added to them there, but the household file can give them to the server.
	Nameless []uint32 `json:"nameless,omitempty"`
	Commands []string `json:"commands"` // for a shell; none where this machine has no program for it
}

// Identity is the account as the kernel sees it.
func (a Account) Identity() permit.Identity {
	return permit.Identity{UID: a.UID, Groups: append([]uint32{a.GID}, a.Groups...)}
}

// Capabilities is what an engine can do for what it runs. The zero value runs a program on
// the host as it is, with the host's own paths, network and limits.
type Capabilities struct {
	// Isolates is whether what runs has a root file system and paths of its own: folders are
	// mounted for it, and what lies above them does not count.
	Isolates bool `json:"isolates"`
	// Networks is whether it has networks of its own, from which ports are published.
	Networks bool `json:"networks"`
	// HostNetwork is whether what it runs may use the host's network.
	HostNetwork bool `json:"host_network"`
	// Volumes is whether it mounts shares of other machines.
	Volumes bool `json:"volumes"`
	// Limits is whether it bounds memory, processors and processes, as far as the kernel can.
	Limits bool `json:"limits"`
	// Boots is whether it starts what it runs with the machine, by itself.
	Boots bool `json:"boots"`
	// Becomes is whether it runs things as any account, whoever asks it.
	Becomes bool `json:"becomes"`
}

// Engine is the engine that will run the container, and how it was chosen.
type Engine struct {
	Kind    string       `json:"kind"` // docker, podman, process; for people, and for the household file
	Can     Capabilities `json:"can"`
	Asked   string       `json:"asked"`
	Why     string       `json:"why"` // why this one
	Answers bool         `json:"answers"`
	Error   string       `json:"error,omitempty"`
	Fix     string       `json:"fix,omitempty"`
	// Barred is that it is there, and the caller may not ask it.
	Barred bool `json:"barred,omitempty"`
	// PassedOver are engines that are there and were preferred, but may not be asked.
	PassedOver []Passed `json:"passed_over,omitempty"`
	Version    string   `json:"version"`
	API        string   `json:"api"`
	Endpoint   string   `json:"endpoint"`
	Arch       string   `json:"arch"`
	Storage    string   `json:"storage"`   // its storage driver
	Root       string   `json:"root"`      // where it keeps its things
	RootFree   int64    `json:"root_free"` // bytes free there; 0 where not known
	NoMemory   bool     `json:"no_memory"` // it says that it cannot limit memory
	Logs       string   `json:"logs"`      // its logging driver
	Cgroup     string   `json:"cgroup"`    // the version that it uses
	Networks   []string `json:"networks"`  // those that others made, which a container may join
	Rootless   bool     `json:"rootless"`  // it runs without root, or shifts ids by a user namespace
	Confined   bool     `json:"confined"`  // SELinux confines its containers
	// HidesClients says that it forwards connections by itself: all come from its own
	// network, whoever connects.
	HidesClients bool `json:"hides_clients"`
	// IPv6 says that networks of its own carry IPv6, and packets from outside keep their
	// addresses there.
	IPv6 bool `json:"ipv6"`
	// How ids inside are shifted; empty where they are not, or it is not known how.
	UIDs      []permit.IDRange `json:"uids,omitempty"`
	GIDs      []permit.IDRange `json:"gids,omitempty"`
	Elsewhere bool             `json:"elsewhere"` // on another machine: host folders are not this one's
}

// Passed is an engine that was passed over: what it runs is not known.
type Passed struct {
	Kind     string `json:"kind"`
	Endpoint string `json:"endpoint"`
	Why      string `json:"why"`
	Fix      string `json:"fix"`
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
	need := permit.Need{Aside: household.Holding, Write: write, Ancestors: !e.Can.Isolates, Confined: e.Confined}
	if inside := a.Identity(); len(e.UIDs)+len(e.GIDs) > 0 {
		need.Inside = &inside
	}
	return id, need
}

// Port is the port that will be listened on.
type Port struct {
	Purpose household.Purpose `json:"purpose"`
	Number  int               `json:"number"`
	Address string            `json:"address"` // address and port
	Free    bool              `json:"free"`
	Ours    bool              `json:"ours"`   // held by this household's own server
	Holder  string            `json:"holder"` // who holds it, where that may be known
	Next    int               `json:"next"`   // the next free port after it; 0 where none is near
	Error   string            `json:"error,omitempty"`
	// Neighbour is the other household of ours whose server holds it, nil where it is none.
	Neighbour *Neighbour `json:"neighbour,omitempty"`
}

// PortsOurs reports whether the household's own server holds a port.
func (f Facts) PortsOurs() bool {
	return slices.ContainsFunc(f.Ports, func(p Port) bool { return p.Ours })
}

// Neighbour is another household on this machine.
type Neighbour struct {
	Name   string `json:"name"`
	State  string `json:"state"` // its state folder
	Engine string `json:"engine"`
}

// Folder is a folder of the host.
type Folder struct {
	Path      string `json:"path"`
	Real      string `json:"real"` // with every link resolved; empty where it does not exist
	Exists    bool   `json:"exists"`
	IsFolder  bool   `json:"is_folder"`
	Parent    string `json:"parent"`    // the nearest folder above that exists
	Creatable bool   `json:"creatable"` // the caller could make it
	FSType    string `json:"fs_type"`
	ReadOnly  bool   `json:"read_only"`
	Free      int64  `json:"free"`
	Total     int64  `json:"total"`
	Inodes    int64  `json:"inodes"` // free ones; 0 with InodesAll 0 where it has no such bound
	InodesAll int64  `json:"inodes_all"`
	Point     string `json:"point"`     // where the file system is mounted
	Source    string `json:"source"`    // the disk, or the share
	Network   bool   `json:"network"`   // on another machine
	Removable bool   `json:"removable"` // on a disk that can be unplugged
	Private   bool   `json:"private"`   // mounts below it do not reach a container that runs
	Ruled     string `json:"ruled"`     // mount options that rule in place of modes
	ACLs      bool   `json:"acls"`      // it has POSIX ACLs
	Unmounted string `json:"unmounted"` // /etc/fstab has something mounted here, and nothing is
	// Exposed is the first folder above it that others may write to, so that they could put
	// another in its place; asked of the server's own folders, where root runs this.
	Exposed string `json:"exposed,omitempty"`
	// Why files in it cannot be locked; asked of the state folder only.
	NoLocks string         `json:"no_locks,omitempty"`
	Error   string         `json:"error,omitempty"`
	Silent  bool           `json:"silent,omitempty"` // its disk or network does not answer
	Share   *Share         `json:"share,omitempty"`  // nil where it is a folder
	Access  *permit.Report `json:"access,omitempty"` // nil where it was not audited
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
