package household

import (
	"fmt"
	"net/netip"
	"net/url"
	"path"
	"regexp"
	"strings"
)

// Share is an export or share of another machine, which the engine mounts.
type Share struct {
	Kind string `json:"kind"` // nfs or smb
	Host string `json:"host"` // a name or an address; IPv6 without brackets
	Port string `json:"port,omitempty"`
	// nfs: the export, such as /export/films; smb: the share and what lies below, such as media/films.
	Path    string `json:"path"`
	User    string `json:"user,omitempty"`    // smb, where no credentials file names one
	Version string `json:"version,omitempty"` // of the protocol, such as 4.1 or 3.0; empty for what both sides agree on
}

var (
	hostName = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9.-]{0,251}[A-Za-z0-9])?$`)
	version  = regexp.MustCompile(`^[0-9](\.[0-9]){0,2}$`)
	portText = regexp.MustCompile(`^[0-9]{1,5}$`)
)

// ParseShare reads "nfs://host/export/films" (RFC 2224) or
// "smb://user@host/share/films". ?version= may name a version of the protocol.
func ParseShare(s string) (Share, error) {
	u, err := url.Parse(s)
	if err != nil {
		return Share{}, fmt.Errorf("%q is no address of a share", s)
	}
	sh := Share{Kind: u.Scheme, Host: u.Hostname(), Port: u.Port()}
	if sh.Kind != "nfs" && sh.Kind != "smb" {
		return sh, fmt.Errorf("%q is neither nfs:// nor smb://", u.Scheme+"://")
	}
	if _, err := netip.ParseAddr(sh.Host); err != nil && !hostName.MatchString(sh.Host) {
		return sh, fmt.Errorf("%q names no host", s)
	}
	if sh.Port != "" && !portText.MatchString(sh.Port) {
		return sh, fmt.Errorf("%q is no port", sh.Port)
	}
	for key, values := range u.Query() {
		if key != "version" || len(values) != 1 || !version.MatchString(values[0]) {
			return sh, fmt.Errorf("%q is not known after the path; only version=, such as version=4.1", key)
		}
		sh.Version = values[0]
	}
	if u.Fragment != "" || u.Opaque != "" {
		return sh, fmt.Errorf("%q holds more than host and path", s)
	}
	if u.User != nil {
		if _, has := u.User.Password(); has {
			return sh, fmt.Errorf("a password has no place in the household file: write it into a file of mode " +
				"0600, and credentials = \"/path/of/it\" beside folders")
		}
		if sh.User = u.User.Username(); sh.Kind == "nfs" {
			return sh, fmt.Errorf("NFS knows no user in its address")
		}
	}
	p := path.Clean("/" + u.Path)
	// A comma or a control character would end the option it stands in.
	if strings.ContainsFunc(p+sh.User, func(r rune) bool { return r < ' ' || r == 0x7f || r == ',' || r == '\\' }) {
		return sh, fmt.Errorf("the path holds a comma, a backslash or a control character, which mount options " +
			"cannot carry")
	}
	if strings.Contains(u.Path, "/../") || strings.HasSuffix(u.Path, "/..") {
		return sh, fmt.Errorf("%q holds \"..\"", s)
	}
	if sh.Kind == "smb" {
		p = strings.TrimPrefix(p, "/")
		if p == "" {
			return sh, fmt.Errorf("%q names no share", s)
		}
	}
	sh.Path = p
	return sh, nil
}

// place is what two shares are compared by, to find those that overlap.
func (s Share) place() string {
	return "/" + s.Kind + "//" + strings.ToLower(s.Host) + "/" + strings.Trim(s.Path, "/")
}
