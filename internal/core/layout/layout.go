// Package layout names everything that lies in a household's state folder, and in the
// administrator's folder beside it: whose it is, whether a backup holds it, and whether
// retire --erase removes it. Whoever makes or looks for a file there takes its name from
// here; a test of the built program fails where a file appears that has no place.
package layout

import (
	"path"
	"strings"
)

// Names in the state folder.
const (
	Store        = "store.db"
	Socket       = "control.sock"
	Household    = "household.toml" // the household file as it was deployed, for the server's own backups
	Settings     = "settings-*.json"
	Spool        = "spool.jsonl"
	Taken        = "spool-taken.jsonl"
	Key          = "known.key"
	Seals        = "seal-*.key"
	Authority    = "authority.pem"
	Certificates = "certificates"
	Closed       = "outside-closed.json"
	Secrets      = "notice-secrets.json" // of receivers by their names, and of the household's name
	SecretOfName = "[remote.name]"       // which no receiver is called
	Reserve      = "reserve"
	Opening      = "opening"
	Pictures     = "pictures"
	Lookup       = "lookup"
	Backups      = "backups"
	Scratch      = "scratch"
	Prepared     = "prepared"
	Capacity     = "capacity.json"
	AdminIn      = "admin" // the administrator's folder, where that is the account itself
)

// Names in the administrator's folder.
const (
	Ledger   = "ledger.jsonl"
	Undo     = "undo"
	Deployed = "deployed.json" // in Undo
	Work     = "work"
)

// Unfinished begins the names of what is half made, in either folder.
const Unfinished = ".new-"

// Owner is whose something is.
type Owner string

// Owners.
const (
	Server Owner = "server" // the run-as account's: root believes nothing in it
	Admin  Owner = "admin"  // whoever runs the commands
)

// Place is one name, or a pattern of names (path.Match), with what is known of it.
type Place struct {
	Name  string
	Owner Owner
	Saved bool // a backup holds it
	What  string
}

// State are the places in the state folder. All of them go with retire --erase.
var State = []Place{
	{Name: Store, Owner: Server, Saved: true, What: "members, titles, positions, plays"},
	{Name: Store + "-wal", Owner: Server, What: "the store's log; a backup has it in the store"},
	{Name: Store + "-shm", Owner: Server, What: "memory that the store's connections share"},
	{Name: Store + "-journal", Owner: Server, What: "the store's log, as older programs kept it"},
	{Name: Socket, Owner: Server, What: "by which commands ask the server"},
	{Name: Household, Owner: Server, Saved: true, What: "the household file as it was deployed, for the " +
		"server's own backups"},
	{Name: Settings, Owner: Server, Saved: true, What: "what the server needs of the household file"},
	{Name: Spool, Owner: Server, What: "what the server tells for the ledger"},
	{Name: Taken, Owner: Server, What: "the same, being entered"},
	{Name: Key, Owner: Server, What: "by which a member's own browser is known again"},
	{Name: Seals, Owner: Server, Saved: true, What: "keys of which the hashes of passwords are made, beside the store"},
	{Name: Authority, Owner: Server, Saved: true, What: "the household's own authority for HTTPS at home, with its key"},
	{Name: Certificates, Owner: Server,
		What: "certificates of an authority that was asked, with keys; it can be asked again"},
	{Name: Closed, Owner: Server, What: "that the way in from outside is closed, and since when"},
	{Name: Secrets, Owner: Server, What: "keys and passwords for notices, as deploy read them from where the " +
		"household file says"},
	{Name: Reserve, Owner: Server, What: "room to open the store on a full disk"},
	{Name: Opening, Owner: Server, What: "files that are being opened, and those that brought the server down"},
	{Name: Opening + ".json", Owner: Server, What: "the same, as older programs kept it"},
	{Name: Pictures, Owner: Server, Saved: true, What: "covers and other pictures of titles"},
	{Name: Lookup, Owner: Server, What: "what catalogues answered, for a month"},
	{Name: Backups, Owner: Server, What: "the server's own backups, where no other folder is named"},
	{Name: Scratch, Owner: Server, What: "what is being worked on, where the engine has no memory for it"},
	{Name: Prepared, Owner: Server, What: "copies of films that were made beforehand; they can be made again"},
	{Name: Capacity, Owner: Server, What: "how much this machine converts, as it was measured"},
	{Name: Unfinished + "*", Owner: Server, What: "half made"},
	{Name: AdminIn, Owner: Admin, Saved: true, What: "the administrator's folder, where that is the account itself"},
}

// Administrator are the places in the administrator's folder.
var Administrator = []Place{
	{Name: Ledger, Owner: Admin, Saved: true, What: "what was changed on the host and the engine"},
	{Name: Undo, Owner: Admin, What: "what is needed to take changes back"},
	{Name: Backups, Owner: Admin, What: "backups taken before changes"},
	{Name: Work, Owner: Admin, What: "half made"},
	{Name: Unfinished + "*", Owner: Admin, What: "half made"},
}

// SealOf is the name of the file of a key, by the key's id.
func SealOf(id string) string { return strings.Replace(Seals, "*", id, 1) }

// KeyID gives the id of the key that a file of a name holds, 16 hexadecimal figures; nothing where it
// is not such a file.
func KeyID(name string) string {
	before, after, _ := strings.Cut(Seals, "*")
	id, ok := strings.CutPrefix(name, before)
	id, too := strings.CutSuffix(id, after)
	if !ok || !too || len(id) != 16 || strings.Trim(id, "0123456789abcdef") != "" {
		return ""
	}
	return id
}

// Secret reports whether a file of a name holds a key without which a restored server is not the same.
func Secret(name string) bool { return KeyID(name) != "" || name == Authority }

// Find finds the place of a name, or of what lies below it.
func Find(places []Place, name string) (Place, bool) {
	top, _, _ := strings.Cut(name, "/")
	for _, p := range places {
		if ok, _ := path.Match(p.Name, top); ok { // the patterns are sound
			return p, true
		}
	}
	return Place{}, false
}
