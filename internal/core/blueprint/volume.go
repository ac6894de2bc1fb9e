package blueprint

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"

	"cozyshelf/internal/core/household"
)

// Volume is a share of another machine that the engine mounts for the server.
type Volume struct {
	Name        string          `json:"name"` // on the engine
	Shelf       string          `json:"shelf"`
	Shown       string          `json:"shown"` // as the administrator wrote it
	Share       household.Share `json:"share"`
	Write       bool            `json:"write"`
	UID         uint32          `json:"uid"` // smb: who owns what is in it
	GID         uint32          `json:"gid"`
	Credentials string          `json:"credentials,omitempty"` // the file's path; never what is in it
	// Stamp changes when the credentials file does, without telling what is in it.
	Stamp string `json:"stamp,omitempty"`
}

// Credentials is what a credentials file holds.
type Credentials struct{ User, Password, Domain string }

// ParseCredentials reads a file of lines such as "username=wren", as several
// programs that mount shares have it. Blank lines and those that begin with #
// are passed over.
func ParseCredentials(text []byte) (Credentials, error) {
	var c Credentials
	for n, line := range strings.Split(string(text), "\n") {
		line = strings.TrimRight(line, "\r")
		if s := strings.TrimSpace(line); s == "" || s[0] == '#' {
			continue
		}
		key, value, ok := strings.Cut(line, "=")
		if !ok {
			return c, fmt.Errorf("line %d has no \"=\"", n+1)
		}
		// What a mount option cannot carry would end it, and the rest would be
		// taken for options of its own.
		if strings.ContainsAny(value, ",\x00") {
			return c, fmt.Errorf("line %d holds a comma, which mount options cannot carry; choose another", n+1)
		}
		switch strings.TrimSpace(key) {
		case "username", "user":
			c.User = value
		case "password", "pass":
			c.Password = value
		case "domain", "dom", "workgroup":
			c.Domain = value
		default:
			return c, fmt.Errorf("line %d names neither username, password nor domain", n+1)
		}
	}
	return c, nil
}

// Options are those of the engine's local volume driver. A share that is only
// read gives up after a while where the other side does not answer; one that is
// written to waits, since giving up would lose what is being written.
func (v Volume) Options(c Credentials) map[string]string {
	s := v.Share
	rw := "ro"
	if v.Write {
		rw = "rw"
	}
	o := []string{"addr=" + s.Host, rw}
	if s.Kind == "nfs" {
		kind, patience := "nfs4", "soft,timeo=150,retrans=2"
		if v.Write {
			patience = "hard"
		}
		o = append(o, patience, "nosuid", "nodev", "noexec", "noatime")
		switch {
		case strings.HasPrefix(s.Version, "3"):
			kind = "nfs"
			o = append(o, "vers=3", "nolock")
		case s.Version != "":
			o = append(o, "vers="+s.Version)
		}
		if s.Port != "" {
			o = append(o, "port="+s.Port)
		}
		return map[string]string{"type": kind, "device": ":" + s.Path, "o": strings.Join(o, ",")}
	}
	files, folders := "0440", "0550"
	if v.Write {
		files, folders = "0640", "0750"
	}
	user := c.User
	if user == "" {
		user = s.User
	}
	if user == "" {
		o = append(o, "guest")
	} else {
		o = append(o, "username="+user, "password="+c.Password)
		if c.Domain != "" {
			o = append(o, "domain="+c.Domain)
		}
	}
	o = append(o, fmt.Sprintf("uid=%d", v.UID), fmt.Sprintf("gid=%d", v.GID), "forceuid", "forcegid", "file_mode="+
		files, "dir_mode="+folders, "iocharset=utf8", "nosuid", "nodev", "noexec")
	if s.Version != "" {
		o = append(o, "vers="+s.Version)
	}
	if s.Port != "" {
		o = append(o, "port="+s.Port)
	}
	host := s.Host
	if a, err := netip.ParseAddr(host); err == nil && a.Is6() {
		// A colon cannot stand in such a name (RFC 5952 has no other way out
		// than the form below .ipv6-literal.net, which needs a resolver).
		host = strings.ReplaceAll(host, ":", "-") + ".ipv6-literal.net"
	}
	return map[string]string{"type": "cifs", "device": "//" + host + "/" + s.Path, "o": strings.Join(o, ",")}
}

// volume draws the volume of a share.
func volume(h *household.Household, shelf household.Shelf, n int, s Site) Volume {
	share, _ := household.ParseShare(shelf.Folders[n]) // checked when the file was read
	v := Volume{Shelf: shelf.Name, Shown: shelf.Folders[n], Share: share, Write: shelf.Access == household.Change,
		UID: s.UID, GID: s.GID}
	if share.Kind == "smb" && shelf.Credentials != "" {
		v.Credentials = shelf.Credentials
		if s.Stamp != nil {
			v.Stamp = s.Stamp(shelf.Credentials)
		}
	}
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain values only
	}
	v.Name = fmt.Sprintf("cozyshelf-%s-%s-%d-%s", ID(h.Storage.State), shelf.Name, n+1, digestOf(b)[:8])
	return v
}
