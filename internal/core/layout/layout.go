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
	Store     = "store.db"
	Socket    = "control.sock"
	Household = "household.toml" // the household file as it was deployed, for the server's own backups
	Settings  = "settings-*.json"
	Spool     = "spool.jsonl"
	Taken     = "spool-taken.jsonl"
	Key       = "known.key"
	Reserve   = "reserve"
	Opening   = "opening"
	Pictures  = "pictures"
	Lookup    = "lookup"
	Backups   = "backups"
	Scratch   = "scratch"
	AdminIn   = "admin" // the administrator's folder, where that is the account itself
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
	{Store, Server, true, "members, titles, positions, plays"},
	{Store + "-wal", Server, false, "the store's log; a backup has it in the store"},
	{Store + "-shm", Server, false, "memory that the store's connections share"},
	{Store + "-journal", Server, false, "the store's log, as older programs kept it"},
	{Socket, Server, false, "by which commands ask the server"},
	{Household, Server, true, "the household file as it was deployed, for the server's own backups"},
	{Settings, Server, true, "what the server needs of the household file"},
	{Spool, Server, false, "what the server tells for the ledger"},
	{Taken, Server, false, "the same, being entered"},
	{Key, Server, false, "by which a member's own browser is known again"},
	{Reserve, Server, false, "room to open the store on a full disk"},
	{Opening, Server, false, "files that are being opened, and those that brought the server down"},
	{Opening + ".json", Server, false, "the same, as older programs kept it"},
	{Pictures, Server, true, "covers and other pictures of titles"},
	{Lookup, Server, false, "what catalogues answered, for a month"},
	{Backups, Server, false, "the server's own backups, where no other folder is named"},
	{Scratch, Server, false, "what is being worked on, where the engine has no memory for it"},
	{Unfinished + "*", Server, false, "half made"},
	{AdminIn, Admin, true, "the administrator's folder, where that is the account itself"},
}

// Administrator are the places in the administrator's folder.
var Administrator = []Place{
	{Ledger, Admin, true, "what was changed on the host and the engine"},
	{Undo, Admin, false, "what is needed to take changes back"},
	{Backups, Admin, false, "backups taken before changes"},
	{Work, Admin, false, "half made"},
	{Unfinished + "*", Admin, false, "half made"},
}

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
