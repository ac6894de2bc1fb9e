package household

import (
	"fmt"
	"net/mail"
	"net/netip"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Notice is one [[notice]]: who is told of what happens, and how.
type Notice struct {
	Name string `toml:"name" json:"name"` // unique
	To   string `toml:"to" json:"to"`     // webhook, mail, mqtt, program
	// Of a webhook its https:// address; of mail the server that takes it, as smtp://host:587 (STARTTLS) or
	// smtps://host:465; of MQTT the broker, as mqtts://host:8883. At home it may be http://, plain smtp, mqtt://.
	Address    string   `toml:"address" json:"address,omitempty"`
	Secret     string   `toml:"secret" json:"-"` // a file of mode 0600: of a webhook its key, of mail the password
	User       string   `toml:"user" json:"user,omitempty"`
	From       string   `toml:"from" json:"from,omitempty"`             // mail: the sender
	Recipients []string `toml:"recipients" json:"recipients,omitempty"` // mail
	Program    string   `toml:"program" json:"-"`                       // an absolute path on the host
	Events     []string `toml:"events" json:"events,omitempty"`         // codes; the usual ones where left out
	Members    []string `toml:"members" json:"members,omitempty"`       // only what concerns them, or the house
	Quiet      string   `toml:"quiet" json:"quiet,omitempty"`           // hours in which nothing is sent
	Gather     string   `toml:"gather" json:"gather,omitempty"`         // "1h", or a time of day
}

// How notices are sent.
const (
	ToWebhook = "webhook"
	ToMail    = "mail"
	ToProgram = "program"
	ToMQTT    = "mqtt"
	ToBrowser = "browser" // of members who want it
)

// NoticeWays are all of them.
var NoticeWays = []string{ToWebhook, ToMail, ToMQTT, ToProgram, ToBrowser}

// mostNotices bounds how many receivers there are.
const mostNotices = 20

// Gathers tells what gather says: for how long notices are gathered, or, where clock is not -1, until which
// time of day, in minutes after midnight.
func (n Notice) Gathers() (length time.Duration, clock int, err error) {
	if n.Gather == "" {
		return 0, -1, nil
	}
	if t, err := time.Parse("15:04", n.Gather); err == nil {
		return 0, t.Hour()*60 + t.Minute(), nil
	}
	d, err := time.ParseDuration(n.Gather)
	if err != nil || d < time.Minute || d > 24*time.Hour {
		return 0, -1, fmt.Errorf("%q is neither a length from 1m to 24h nor a time of day", n.Gather)
	}
	return d, -1, nil
}

// MailServer tells what the address of mail says: where the server is, and whether TLS begins at once.
func (n Notice) MailServer() (host string, port int, tls bool, err error) {
	u, err := url.Parse(n.Address)
	switch {
	case err != nil:
	case u.Scheme != "smtp" && u.Scheme != "smtps", u.Hostname() == "", u.Path != "" && u.Path != "/", u.User != nil,
		u.RawQuery != "":
		err = fmt.Errorf("%q is no mail server", n.Address)
	}
	if err != nil {
		return "", 0, false, err
	}
	tls, port = u.Scheme == "smtps", 587
	if tls {
		port = 465
	}
	if p := u.Port(); p != "" {
		if port, err = strconv.Atoi(p); err != nil || port < 1 || port > 65535 {
			return "", 0, false, fmt.Errorf("%q is no port", p)
		}
	}
	return u.Hostname(), port, tls, nil
}

// AtHome reports whether a host lies at home, as far as its name or address tells: there a message may go unencrypted.
func AtHome(host string) bool {
	if a, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		return a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast()
	}
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	return host == "localhost" || strings.HasSuffix(host, ".home.arpa") || strings.HasSuffix(host, ".local") ||
		!strings.Contains(host, ".")
}

var noticeName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$`)

// judgeNotices finds what is wrong with [[notice]].
func (h *Household) judgeNotices(c *complaints) {
	if len(h.Notices) > mostNotices {
		c.bad(fmt.Sprintf("notice[%d]", mostNotices), "put some together", "there may be %d receivers at most", mostNotices)
	}
	seen := map[string]bool{}
	for i, n := range h.Notices {
		key := fmt.Sprintf("notice[%d]", i)
		switch {
		case n.Name == "":
			c.bad(key, "write: name = \"house\"", "the receiver of notices has no name")
		case !noticeName.MatchString(n.Name):
			c.bad(key+".name", "use small letters, digits and hyphens, 40 at most", "%q cannot be a receiver's name", n.Name)
		case seen[n.Name]:
			c.bad(key+".name", "give each receiver a name of its own", "there are two receivers called %q", n.Name)
		}
		seen[n.Name] = true
		if n.To == ToBrowser && slices.ContainsFunc(h.Notices[:i], func(o Notice) bool { return o.To == ToBrowser }) {
			c.bad(key+".to", "put the two together",
				"there are two receivers for browsers, and each browser would be told twice")
		}
		n.judge(key, c)
	}
}

// judge finds what is wrong with one receiver.
func (n Notice) judge(key string, c *complaints) {
	whole := func(name, value, what string) {
		if value != "" && (!path.IsAbs(value) || path.Clean(value) != value) {
			c.bad(key+"."+name, "write the whole path of "+what, "%q is not a whole path", value)
		}
	}
	whole("secret", n.Secret, "a file of mode 0600")
	whole("program", n.Program, "a program on this machine")
	belongs := map[string][]string{"address": {ToWebhook, ToMail, ToMQTT},
		"secret": {ToWebhook, ToMail, ToMQTT}, "user": {ToMail, ToMQTT},
		"from": {ToMail}, "recipients": {ToMail}, "program": {ToProgram}}
	for _, v := range []struct {
		name  string
		given bool
	}{{"address", n.Address != ""}, {"secret", n.Secret != ""}, {"user", n.User != ""}, {"from", n.From != ""},
		{"recipients", len(n.Recipients) > 0}, {"program", n.Program != ""}} {
		if v.given && slices.Contains(NoticeWays, n.To) && !slices.Contains(belongs[v.name], n.To) {
			c.bad(key+"."+v.name, "remove it", "it means nothing where notices go to a %s", n.To)
		}
	}
	switch n.To {
	case "":
		c.bad(key, "write: to = \"webhook\", \"mail\", \"mqtt\", \"browser\" or \"program\"",
			"it is not said how the notices are sent")
	case ToWebhook:
		n.judgeWebhook(key, c)
	case ToMail:
		n.judgeMail(key, c)
	case ToMQTT:
		n.judgeMQTT(key, c)
	case ToProgram:
		if n.Program == "" {
			c.bad(key, "write: program = \"/usr/local/bin/tell\"", "no program is named")
		}
	}
	if n.Quiet != "" {
		hours, err := ParseHours(n.Quiet)
		if err == nil && hours.From == hours.To {
			err = fmt.Errorf("%q is the whole day: nothing would ever be sent", n.Quiet)
		}
		if err != nil {
			c.bad(key+".quiet", "write it as \"22:00-07:00\"", "%v", err)
		}
	}
	if _, _, err := n.Gathers(); err != nil {
		c.bad(key+".gather", "write a length such as \"1h\", or a time of day such as \"08:00\"", "%v", err)
	}
}

func (n Notice) judgeWebhook(key string, c *complaints) {
	u, err := url.Parse(n.Address)
	switch {
	case n.Address == "":
		c.bad(key, "write: address = \"https://automation.home.arpa/shelf\"", "no address is given")
	case err != nil, u.Scheme != "https" && u.Scheme != "http", u.Host == "", u.User != nil, u.Fragment != "":
		c.bad(key+".address", "write an address such as \"https://automation.home.arpa/shelf\"; what is secret goes into "+
			"the file of secret", "%q cannot be asked", n.Address)
	case u.Scheme == "http" && !AtHome(u.Hostname()):
		c.bad(key+".address", "use https://", "notices would go through the internet for everybody to read")
	}
	if n.Secret == "" {
		c.bad(key, "write: secret = \"/etc/cozyshelf/house.key\", a file of mode 0600 with 24 bytes or more, such as of "+
			"openssl rand -base64 24", "there is no key by which the receiver could know who sends")
	}
}

func (n Notice) judgeMQTT(key string, c *complaints) {
	u, err := url.Parse(n.Address)
	switch {
	case n.Address == "":
		c.bad(key, "write: address = \"mqtts://broker.home.arpa:8883\"", "no broker is given")
	case err != nil, u.Scheme != "mqtt" && u.Scheme != "mqtts", u.Hostname() == "", u.User != nil, u.RawQuery != "",
		u.Path != "" && u.Path != "/":
		c.bad(key+".address", "write mqtts://host:8883, or at home mqtt://host:1883; what is secret goes into the file of "+
			"secret", "%q is no broker", n.Address)
	case u.Scheme == "mqtt" && !AtHome(u.Hostname()):
		c.bad(key+".address", "use mqtts://", "notices would go through the internet for everybody to read")
	}
	n.judgeSignIn(key, c)
}

// judgeSignIn finds whether there is a password where there is a name to sign in by, and the other way round.
func (n Notice) judgeSignIn(key string, c *complaints) {
	if n.User != "" && n.Secret == "" {
		c.bad(key+".user", "name the file with the password: secret = \"/etc/cozyshelf/"+n.Name+"\"",
			"there is no password for %s", n.User)
	}
	if n.Secret != "" && n.User == "" {
		c.bad(key+".secret", "write: user = \"…\"", "there is a password, but not for whom")
	}
}

func (n Notice) judgeMail(key string, c *complaints) {
	if n.Address == "" {
		c.bad(key, "write: address = \"smtp://mail.example.net:587\"", "no mail server is given")
	} else if _, _, _, err := n.MailServer(); err != nil {
		c.bad(key+".address", "write smtp://host:587 (STARTTLS) or smtps://host:465", "%v", err)
	}
	n.judgeSignIn(key, c)
	if _, err := mail.ParseAddress(n.From); err != nil {
		c.bad(key, "write: from = \"shelf@example.net\"", "%q is no sender", n.From)
	}
	if len(n.Recipients) == 0 || len(n.Recipients) > 20 {
		c.bad(key, "write: recipients = [\"wren@example.net\"], 20 at most", "there are %d recipients", len(n.Recipients))
	}
	for i, r := range n.Recipients {
		if _, err := mail.ParseAddress(r); err != nil {
			c.bad(fmt.Sprintf("%s.recipients[%d]", key, i), "write a mail address", "%q is none", r)
		}
	}
}
