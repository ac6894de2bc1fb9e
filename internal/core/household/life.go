package household

import (
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"time"
)

var umaskText = regexp.MustCompile(`^0?[0-7]{3}$`)

// The bounds of backups that the server makes by itself.
const (
	leastBackupPause = time.Hour
	mostBackups      = 1000
)

// judgeLife finds impossible values among what rules the life of a deployment.
func (h *Household) judgeLife(c *complaints) {
	s := h.Server
	if strings.ContainsFunc(s.Version, func(r rune) bool { return r <= ' ' || r == 0x7f }) || len(s.Version) > 80 {
		c.bad("server.version", "write it as cozyshelf --version shows it, or leave the line out",
			"%q cannot be a version", s.Version)
	}
	if n, err := strconv.ParseUint(s.Umask, 8, 16); !umaskText.MatchString(s.Umask) || err != nil || n&0o700 != 0 {
		c.bad("server.umask", "write three or four octal digits that leave the owner all, such as \"0022\" or \"0002\"",
			"%q cannot be a umask", s.Umask)
	}
	for i, d := range s.DNS {
		if a, err := netip.ParseAddr(d); err != nil || a.IsUnspecified() || a.IsMulticast() {
			c.bad(fmt.Sprintf("server.dns[%d]", i), "write an address, such as \"192.0.2.53\"",
				"%q is not the address of a name server", d)
		}
	}
	if len(s.DNS) > 3 {
		c.bad("server.dns", "leave three", "resolvers look at three name servers (resolv.conf(5)), and there are %d",
			len(s.DNS))
	}
	for name, addr := range s.Hosts {
		if _, err := netip.ParseAddr(addr); err != nil || !hostName.MatchString(name) {
			c.bad("server.hosts", "write hosts = { \"nas.home.arpa\" = \"192.0.2.10\" }",
				"%q = %q is no name of a host with its address", name, addr)
		}
	}
	for i, name := range s.Names {
		if !hostName.MatchString(name) || len(name) > 253 {
			c.bad(fmt.Sprintf("server.names[%d]", i),
				"write a name as it stands in a browser's address, such as \"shelf.home.arpa\"",
				"%q is no name of a host", name)
		}
	}
	b := h.Backup
	if b.Every == "" {
		if b.At != "" || b.Keep != 0 {
			c.bad("backup", "write: every = \"day\"", "the server is not told how often to make backups")
		}
	} else if _, err := ParsePause(b.Every); err != nil {
		c.bad("backup.every", "write day, week, or hours such as \"12h\"", "%v", err)
	}
	if _, err := time.Parse("15:04", b.At); b.At != "" && err != nil {
		c.bad("backup.at", "write a time of day, such as \"03:30\"", "%q is none", b.At)
	}
	if b.Keep < 0 || b.Keep > mostBackups || b.Every != "" && b.Keep == 0 {
		c.bad("backup.keep", "write how many to keep, from 1 to 1000", "%d cannot be kept", b.Keep)
	}
	if b.Folder != "" {
		if why := folderFault(b.Folder); why != "" {
			c.bad("backup.folder", "write the whole path of a folder", "%s", why)
		}
	}
}

// Never says that a shelf is looked at only when its files change, and when somebody asks.
const Never = "never"

// ParsePause reads how often something is done: day, week, or a length such as
// "12h", at least an hour.
func ParsePause(s string) (time.Duration, error) {
	switch s {
	case "day":
		return 24 * time.Hour, nil
	case "week":
		return 7 * 24 * time.Hour, nil
	}
	d, err := time.ParseDuration(s)
	if err != nil || d < leastBackupPause || d > 366*24*time.Hour {
		return 0, fmt.Errorf("%q is not how often something can be done", s)
	}
	return d, nil
}

// UmaskBits gives the umask as a number. It takes a checked household.
func (s Server) UmaskBits() uint32 {
	n, err := strconv.ParseUint(s.Umask, 8, 16)
	if err != nil {
		return 0o022
	}
	return uint32(n)
}

// Catalogues are those that a household may allow to be asked.
var Catalogues = []string{"wikidata", "musicbrainz"}

// The addresses of the public catalogues.
const (
	PublicWikidata    = "https://www.wikidata.org/w/api.php"
	PublicCommons     = "https://commons.wikimedia.org/wiki/Special:FilePath/"
	PublicMusicBrainz = "https://musicbrainz.org/ws/2"
	PublicCovers      = "https://coverartarchive.org"
)
