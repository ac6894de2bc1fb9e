package household

import (
	"encoding"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"cozyshelf/internal/core/event"
)

// Key is one key of the household file.
type Key struct {
	Name string // section and key, with a dot between; of a shelf as "shelf.name"
	// Default is what counts where the key is left out: a value between backquotes, which is then
	// filled in, or words for what is done without one.
	Default string
	Takes   string   // what it may be, and what for, in a line
	Values  []string // where only some are allowed; of a list, its items
	Becomes Becomes  // what it is for
}

// Becomes says what a key becomes. A test of package blueprint changes each and looks.
type Becomes string

// What keys become.
const (
	Settings Becomes = "settings" // the settings that the server reads
	Service  Becomes = "service"  // how the server's container is made
	Both     Becomes = "both"
	Tool     Becomes = "tool" // nothing that is deployed: commands alone go by it
)

// value is the value that is filled in where the key is left out.
func (k Key) value() (text string, ok bool) {
	text, ok = strings.CutPrefix(k.Default, "`")
	text, whole := strings.CutSuffix(text, "`")
	return text, ok && whole
}

// Keys are all keys in the order of the reference, whose table is made of them. A test finds
// one that is missing here, there, in what Compose writes, or in what Decode reads.
var Keys = []Key{
	{Name: "format", Default: "–",
		Takes: "`1`", Becomes: Tool},
	{Name: "household.name", Default: "–",
		Takes: "text, up to 80 bytes", Becomes: Both},
	{Name: "household.timezone", Default: "`UTC`",
		Takes: "IANA time zone", Becomes: Both},
	{Name: "household.language", Default: "`en`",
		Takes: "language tag (BCP 47), with the country where it matters, such as `pt-BR`: descriptions are wanted " +
			"in it, else without the country, else in English; subtitles and sound without them are " +
			"listed", Becomes: Settings},
	{Name: "household.unknown_age", Default: "`18`",
		Takes: "from which age on a film or a series is for which none is known, 0 to 21; what else is of no known age " +
			"is for everybody", Becomes: Settings},
	{Name: "server.engine", Default: "`auto`",
		Takes:  "`auto`, `docker`, `podman`, `process`",
		Values: []string{"auto", "docker", "podman", "process"}, Becomes: Tool},
	{Name: "server.run_as", Default: "`shelfkeeper`",
		Takes: "an account of this machine (from its files, or from what `getent` knows), or `\"uid:gid\"` (then no " +
			"further groups)", Becomes: Tool},
	{Name: "server.groups", Default: "none",
		Takes: "further groups of the server, by name or as a number in quotes", Becomes: Tool},
	{Name: "server.devices", Default: "none",
		Takes:   "graphics devices such as `\"/dev/dri\"`, mapped into the container with the groups that own them",
		Becomes: Service},
	{Name: "server.port", Default: "`26990`",
		Takes: "1 to 65535", Becomes: Both},
	{Name: "server.bind", Default: "`lan`",
		Takes: "`lan` (every address of the machine, of both families), `localhost`, or an address, such as " +
			"`192.0.2.10` or `2001:db8::10`", Becomes: Service},
	{Name: "server.version", Default: "any",
		Takes: "the program that may be deployed, as `cozyshelf --version` shows it; another one refuses", Becomes: Tool},
	{Name: "server.start", Default: "`boot`",
		Takes:  "`boot` (with the machine, and after a crash), `crash` (after a crash only), `never`",
		Values: []string{"boot", "crash", "never"}, Becomes: Service},
	{Name: "server.names", Default: "–",
		Takes: "further names by which people ask for the server, such as `shelf.home.arpa`; addresses, " +
			"`localhost`, this machine's name and that of `remote.address` are answered to anyway, and all else " +
			"is refused", Becomes: Settings},
	{Name: "server.umask", Default: "`0022`",
		Takes: "octal, as umask(2): what files that the server makes on shelves are not to allow; the owner " +
			"keeps all", Becomes: Settings},
	{Name: "server.dns", Default: "the engine's",
		Takes: "up to three addresses of name servers, for a container with a network of its own", Becomes: Service},
	{Name: "server.hosts", Default: "none",
		Takes: "names and addresses for such a container: `{ \"nas.home.arpa\" = \"192.0.2.10\" }`", Becomes: Service},
	{Name: "server.log_level", Default: "`info`",
		Takes:  "`debug`, `info`, `warn`, `error`",
		Values: []string{"debug", "info", "warn", "error"}, Becomes: Settings},
	{Name: "server.log_format", Default: "`text`",
		Takes:  "`text` (log/slog's key=value) or `json`",
		Values: []string{"text", "json"}, Becomes: Settings},
	{Name: "server.syslog", Default: "–",
		Takes: "a collector that is sent the server's log, too, by RFC 5424: `udp://host:514`, `tcp://host:601` or " +
			"`tls://host:6514`; by the first two everybody on the way can read it", Becomes: Settings},
	{Name: "server.network", Default: "`own`",
		Takes: "`own`, `host`, or an existing network of the engine", Becomes: Service},
	{Name: "server.processors", Default: "no bound",
		Takes: "how many cores the server may keep busy, such as `1.5`; with `process` a habit of the server's, no " +
			"bound", Becomes: Service},
	{Name: "server.log_limit", Default: "`16 MiB`",
		Takes: "how much of the server's log is kept, at least 1 MiB; an engine that keeps its logs in files is " +
			"told to (others see to it themselves)", Becomes: Service},
	{Name: "server.memory", Default: "`1 GiB`",
		Takes: "for the server; scratch in memory comes on top of it; at least 64 MiB", Becomes: Service},
	{Name: "storage.state", Default: "–",
		Takes: "an absolute folder", Becomes: Both},
	{Name: "storage.scratch", Default: "`memory`",
		Takes: "`memory`, or an absolute folder", Becomes: Service},
	{Name: "storage.scratch_limit", Default: "`256 MiB`",
		Takes: "at least 16 MiB", Becomes: Both},
	{Name: "shelf.name", Default: "–",
		Takes: "small letters, digits, hyphens", Becomes: Both},
	{Name: "shelf.kind", Default: "–",
		Takes:  "`films`, `series`, `music`, `photos`, `recordings`",
		Values: []string{"films", "series", "music", "photos", "recordings"}, Becomes: Settings},
	{Name: "shelf.folders", Default: "–",
		Takes: "one or more absolute folders, none within another or within the state; or shares as `nfs://` or " +
			"`smb://`", Becomes: Both},
	{Name: "shelf.credentials", Default: "–",
		Takes:   "for `smb://`: a file of mode 0600 with `username=`, `password=` and perhaps `domain=`, a line each",
		Becomes: Service},
	{Name: "shelf.access", Default: "`read`",
		Takes:  "`read`, `change`",
		Values: []string{"read", "change"}, Becomes: Both},
	{Name: "shelf.scan_every", Default: "12 h, or 30 min where changes are not seen",
		Takes: "`day`, `week`, `never`, or hours such as `6h`: how often the shelf is looked at as a whole, beside " +
			"at once when its files change", Becomes: Settings},
	{Name: "lookup.sources", Default: "none",
		Takes:  "`wikidata`, `musicbrainz`: catalogues that the server may ask about titles, in this order",
		Values: []string{"wikidata", "musicbrainz"}, Becomes: Settings},
	{Name: "lookup.pause", Default: "`1s`",
		Takes: "between two questions to one catalogue; less, from `50ms` on, only where every catalogue's address " +
			"is one of your own", Becomes: Settings},
	{Name: "lookup.wikidata", Default: "the public one",
		Takes: "another server that speaks the same as the public one: its `api.php`", Becomes: Settings},
	{Name: "lookup.commons", Default: "the public one",
		Takes: "the same: what stands before a file's name", Becomes: Settings},
	{Name: "lookup.musicbrainz", Default: "the public one",
		Takes: "the same: its web service", Becomes: Settings},
	{Name: "lookup.covers", Default: "the public one",
		Takes: "the same: its cover archive", Becomes: Settings},
	{Name: "quiet.work", Default: "none",
		Takes: "`frames`, `chapters`, `loudness`: work that takes long, done at quiet hours (see [Quiet " +
			"hours](#quiet-hours))",
		Values: []string{"frames", "chapters", "loudness"}, Becomes: Settings},
	{Name: "quiet.hours", Default: "`01:00-06:00`",
		Takes: "when, by `household.timezone`; may go past midnight", Becomes: Settings},
	{Name: "convert.when", Default: "`auto`",
		Takes: "whether what a device does not play is made anew while it is watched: `needed`, by ffmpeg, which goes " +
			"into the image; `auto`, by one that is there anyway; `never`",
		Values: []string{"auto", "needed", "never"}, Becomes: Settings},
	{Name: "convert.device", Default: "`auto`",
		Takes: "what makes pictures: `auto`, every graphics device that the server may use and that works; a device, " +
			"which is mapped with its group, such as `/dev/dri/renderD128`, `/dev/nvidia0` or `/dev/video10`; `none`, " +
			"software alone", Becomes: Both},
	{Name: "convert.at_once", Default: "half the processors, at least 2",
		Takes:   "how many pictures are made at once: 1 to 64, or `\"measured\"`, as many as `cozyshelf capacity` found",
		Becomes: Settings},
	{Name: "convert.ladder", Default: "2160, 1080, 720, 480, 240",
		Takes:   "the heights of pictures that are made, in lines, as far as the film has them: `[1080, 720, 480]`",
		Becomes: Settings},
	{Name: "convert.prepared_limit", Default: "`20 GiB`",
		Takes: "how much copies that are prepared may take, in the state folder; at least 100 MiB", Becomes: Settings},
	{Name: "usage.history", Default: "`forever`",
		Takes: "how long plays are kept with the names of members, devices and addresses: `forever`, or days such as " +
			"`365 days`", Becomes: Settings},
	{Name: "usage.choice", Default: "`members`",
		Takes:  "who may shorten it for themselves: `members`, on their own page, or nobody but the `household`",
		Values: []string{ChoiceMembers, ChoiceHousehold}, Becomes: Settings},
	{Name: "page.administration", Default: "`home`",
		Takes: "from where administrators with a second factor see to members, streams and scans on the page: `home`, " +
			"`anywhere`, `never`",
		Values: []string{AdminHome, AdminAnywhere, AdminNever}, Becomes: Settings},
	{Name: "backup.every", Default: "never",
		Takes: "`day`, `week`, or hours such as `12h`: the server makes backups by itself", Becomes: Settings},
	{Name: "backup.at", Default: "`03:30`",
		Takes: "for `day` and `week`: the time of day, in the household's zone", Becomes: Settings},
	{Name: "backup.keep", Default: "`7`",
		Takes: "how many stay, 1 to 1000", Becomes: Settings},
	{Name: "backup.folder", Default: "`backups/` in the state folder",
		Takes: "an absolute folder, better on another disk", Becomes: Both},
	{Name: "remote.address", Default: "–",
		Takes: "the address people use from outside: `https://shelf.example.net`", Becomes: Settings},
	{Name: "remote.second_factor", Default: "`admins`",
		Takes: "who has to sign in with a second factor (one-time codes) from outside the home: `admins`, `everybody`, " +
			"`nobody`; who has one is asked for it from everywhere",
		Values: []string{SecondAdmins, SecondEverybody, SecondNobody}, Becomes: Settings},
	{Name: "remote.allow_plain", Default: "`false`",
		Takes: "answer from outside over plain HTTP, too: anybody on the way can read what passes", Becomes: Settings},
	{Name: "remote.trusted_proxies", Default: "–",
		Takes: "addresses or networks whose `X-Forwarded-For` is believed", Becomes: Settings},
	{Name: "remote.allowed_networks", Default: "all",
		Takes: "addresses or networks outside the home from which alone somebody may come", Becomes: Settings},
	{Name: "remote.refused_networks", Default: "none",
		Takes: "addresses or networks outside the home from which nobody may come", Becomes: Settings},
	{Name: "remote.certificate.from", Default: "`none`",
		Takes: "HTTPS of the server's own, with a certificate of a small authority of the household's own (`home`), " +
			"from `files` that somebody else renews, or of an authority that is asked (`acme`, RFC 8555); `none`",
		Values: []string{CertificateNone, CertificateHome, CertificateFiles, CertificateACME}, Becomes: Both},
	{Name: "remote.certificate.port", Default: "`26943`", Takes: "the port of HTTPS", Becomes: Both},
	{Name: "remote.certificate.folder", Default: "–",
		Takes: "the folder with the files that are named below, mapped for reading", Becomes: Service},
	{Name: "remote.certificate.chain", Default: "–",
		Takes: "for `files`: the certificate in the folder, with those above it (PEM)", Becomes: Settings},
	{Name: "remote.certificate.key", Default: "–", Takes: "for `files`: its private key in the folder (PEM)",
		Becomes: Settings},
	{Name: "remote.certificate.authority", Default: "Let's Encrypt",
		Takes: "for `acme`: the address of the authority's directory", Becomes: Settings},
	{Name: "remote.certificate.contact", Default: "–",
		Takes: "for `acme`: a mail address that the authority may write to", Becomes: Settings},
	{Name: "remote.certificate.agree", Default: "`false`", Takes: "for `acme`: the authority's terms are agreed to",
		Becomes: Tool},
	{Name: "remote.certificate.credentials", Default: "–",
		Takes: "for `acme`: a file in the folder with lines `key_id=` and `mac_key=` (external account binding), and " +
			"`tsig_name=`, `tsig_secret=`, `tsig_algorithm=` (`hmac-sha256` where left out)", Becomes: Settings},
	{Name: "remote.certificate.roots", Default: "the public ones",
		Takes:   "for `acme`: a file in the folder with the certificate by which an authority of your own is trusted (PEM)",
		Becomes: Settings},
	{Name: "remote.certificate.nameserver", Default: "–",
		Takes: "for `acme`: the zone's name server, `host:port`, which takes dynamic updates (RFC 2136): the names are " +
			"proved by it, and nothing has to be open", Becomes: Settings},
	{Name: "remote.name.keep", Default: "`none`",
		Takes: "how the record of the name in `remote.address` is kept right when the line's address changes: by dynamic " +
			"update (`dns`, RFC 2136), or by asking an address of whoever keeps the name (`web`); `none`: it is only said " +
			"where it stands for something else",
		Values: []string{KeepNone, KeepDNS, KeepWeb}, Becomes: Settings},
	{Name: "remote.name.learn", Default: "–",
		Takes: "from where the line's address is learnt: servers outside that say whence they are asked (`stun`, RFC " +
			"8489), or an `interface` of this machine",
		Values: []string{LearnSTUN, LearnInterface}, Becomes: Settings},
	{Name: "remote.name.stun", Default: "–",
		Takes:   "up to four servers, `host` or `host:port`; all that answer have to say the same",
		Becomes: Settings},
	{Name: "remote.name.interface", Default: "–",
		Takes: "the interface with the line's address; the server has to see it, so with `server.network = \"host\"` or " +
			"the `process` engine", Becomes: Settings},
	{Name: "remote.name.nameserver", Default: "–",
		Takes: "for `dns`: the zone's name server, `host:port`, which takes dynamic updates", Becomes: Settings},
	{Name: "remote.name.zone", Default: "as the name server says",
		Takes: "for `dns`: the zone that holds the name", Becomes: Settings},
	{Name: "remote.name.address", Default: "–",
		Takes: "for `web`: what is asked, `https://`; `{name}`, `{address}`, `{ipv4}`, `{ipv6}` and `{secret}` are " +
			"filled in", Becomes: Settings},
	{Name: "remote.name.user", Default: "–", Takes: "for `web`: by whom it is asked, with the secret as password",
		Becomes: Settings},
	{Name: "remote.name.secret", Default: "–",
		Takes: "a file of mode 0600 that `deploy` reads: for `dns` with lines `tsig_name=`, `tsig_secret=`, " +
			"`tsig_algorithm=` (`hmac-sha256` where left out), for `web` with the secret", Becomes: Tool},
	{Name: "notice.name", Default: "–",
		Takes: "a receiver of notices: small letters, digits and hyphens, 40 at most; each once", Becomes: Settings},
	{Name: "notice.to", Default: "–",
		Takes: "how they are sent: to a `webhook`, by `mail`, to a broker of `mqtt`, to each `browser` " +
			"whose member wants that, or to a `program` on the host",
		Values: NoticeWays, Becomes: Settings},
	{Name: "notice.address", Default: "–",
		Takes: "of a webhook its `https://` address; of mail the server that takes it, `smtp://host:587` (STARTTLS) or " +
			"`smtps://host:465`; of MQTT the broker, `mqtts://host:8883`; at home it may be `http://`, `mqtt://`, and mail " +
			"without TLS", Becomes: Settings},
	{Name: "notice.secret", Default: "–",
		Takes: "a file of mode 0600 that `deploy` reads: of a webhook the key that messages are signed with, of mail " +
			"and MQTT the password", Becomes: Tool},
	{Name: "notice.user", Default: "–", Takes: "of mail and MQTT: as whom to sign in", Becomes: Settings},
	{Name: "notice.from", Default: "–", Takes: "of mail: the sender's address", Becomes: Settings},
	{Name: "notice.recipients", Default: "–", Takes: "of mail: to whom, 20 addresses at most", Becomes: Settings},
	{Name: "notice.program", Default: "–",
		Takes: "the program's whole path on the host; `notice run` has it told", Becomes: Tool},
	{Name: "notice.events", Default: "those that somebody should know of",
		Takes: "what is told, by the codes below", Values: event.CodeNames(), Becomes: Settings},
	{Name: "notice.members", Default: "everybody",
		Takes: "of what concerns members: only what concerns these", Becomes: Settings},
	{Name: "notice.quiet", Default: "–",
		Takes: "hours in which nothing is sent, such as `22:00-07:00`, by the household's clock", Becomes: Settings},
	{Name: "notice.gather", Default: "–",
		Takes: "gather notices into one message: for so long after the first, such as `1h`, or until a time of day, such " +
			"as `08:00`", Becomes: Settings},
}

// keyed finds what is said of a key.
func keyed(name string) (Key, bool) {
	i := slices.IndexFunc(Keys, func(k Key) bool { return k.Name == name })
	if i < 0 {
		return Key{}, false
	}
	return Keys[i], true
}

// used tells of sections that are filled in only where they are used.
func (h *Household) used(section string) bool {
	switch section {
	case "backup":
		return h.Backup.Every != ""
	case "quiet":
		return len(h.Quiet.Work) > 0
	case "lookup":
		return false // a pause that nobody wrote is bound by whose catalogues are asked
	}
	return true
}

// each calls do with every value in the file that a key stands for, and with the value's own name,
// such as "shelf[1].access".
func (h *Household) each(do func(k Key, name string, v reflect.Value)) {
	for _, k := range Keys {
		section, key, _ := strings.Cut(k.Name, ".")
		of := field(reflect.ValueOf(h).Elem(), section)
		if of.Kind() != reflect.Slice || key == "" {
			do(k, k.Name, field(reflect.ValueOf(h).Elem(), k.Name))
			continue
		}
		for i := range of.Len() {
			do(k, fmt.Sprintf("%s[%d].%s", section, i, key), field(of.Index(i), key))
		}
	}
}

// field gives the field of a structure that a key of TOML is read into.
func field(v reflect.Value, name string) reflect.Value {
	section, rest, below := strings.Cut(name, ".")
	for i := range v.NumField() {
		if tag, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("toml"), ","); tag == section {
			if below {
				return field(v.Field(i), rest)
			}
			return v.Field(i)
		}
	}
	panic("no key " + name) // a test compares the table with the structure
}

// defaults fills in what is left out. given tells whether a key is in the text: a zero that was
// written is not taken for one that was left out.
func (h *Household) defaults(given func(key string) bool) {
	h.each(func(k Key, name string, v reflect.Value) {
		text, ok := k.value()
		section, _, _ := strings.Cut(k.Name, ".")
		if !ok || !v.IsZero() || given(name) || !h.used(section) {
			return
		}
		if u, ok := v.Addr().Interface().(encoding.TextUnmarshaler); ok {
			if err := u.UnmarshalText([]byte(text)); err != nil {
				panic(err) // a test fills in every default
			}
			return
		}
		switch v.Kind() {
		case reflect.String:
			v.SetString(text)
		case reflect.Int:
			n, err := strconv.Atoi(text)
			if err != nil {
				panic(err)
			}
			v.SetInt(int64(n))
		}
	})
}

// judgeValues finds values that are none of those which a key allows.
func (h *Household) judgeValues(c *complaints) {
	h.each(func(k Key, name string, v reflect.Value) {
		if k.Values == nil {
			return
		}
		_, key, _ := strings.Cut(k.Name, ".")
		bad := func(name, value string) {
			if !slices.Contains(k.Values, value) {
				c.bad(name, "write one of: "+strings.Join(k.Values, ", "), "%s %q is not known",
					strings.ReplaceAll(key, "_", " "), value)
			}
		}
		if v.Kind() == reflect.Slice {
			for i := range v.Len() {
				bad(fmt.Sprintf("%s[%d]", name, i), v.Index(i).String())
			}
			return
		}
		if value := v.String(); value != "" || k.Default != "–" { // one that is missing is told otherwise
			bad(name, value)
		}
	})
}

// needed are the keys that have no default.
var needed = []string{"format", "household.name", "storage.state", "shelf.name", "shelf.kind", "shelf.folders",
	"notice.name", "notice.to"}

// Schema gives the household file as a JSON Schema (draft 2020-12), by which editors check
// and complete it.
func Schema() []byte {
	s := object("", reflect.TypeFor[Household]())
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "household file"
	b, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		panic(err) // it is made of texts alone
	}
	return append(b, '\n')
}

// object describes a section, whose keys have a prefix.
func object(prefix string, of reflect.Type) map[string]any {
	properties, required := map[string]any{}, []string{}
	for i := range of.NumField() {
		f := of.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
		if name == "" || name == "-" {
			continue
		}
		full := prefix + name
		var p map[string]any
		switch {
		case f.Type.Kind() == reflect.Slice && f.Type.Elem().Kind() == reflect.Struct:
			p = map[string]any{"type": "array", "items": object(full+".", f.Type.Elem())}
		case f.Type.Kind() == reflect.Struct:
			p = object(full+".", f.Type)
		default:
			p = value(full, f.Type)
		}
		properties[name] = p
		if slices.Contains(needed, full) || full == "household" || full == "storage" {
			required = append(required, name)
		}
	}
	out := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		out["required"] = required
	}
	return out
}

// value describes one key's value.
func value(name string, of reflect.Type) map[string]any {
	k, _ := keyed(name) // a test finds those that are missing
	p := map[string]any{"description": strings.ReplaceAll(k.Takes, "`", "")}
	if k.Default != "–" {
		p["description"] = strings.ReplaceAll(k.Takes+"; "+k.Default+" where left out", "`", "")
	}
	switch {
	case of == reflect.TypeFor[Size](): // written with a unit
		p["type"] = "string"
	case of == reflect.TypeFor[AtOnce]():
		p["type"] = []string{"integer", "string"}
	case of.Kind() == reflect.String:
		p["type"] = "string"
	case of.Kind() == reflect.Bool:
		p["type"] = "boolean"
	case of.Kind() == reflect.Int:
		p["type"] = "integer"
	case of.Kind() == reflect.Float64:
		p["type"] = "number"
	case of.Kind() == reflect.Map:
		p["type"], p["additionalProperties"] = "object", map[string]any{"type": "string"}
	case of.Kind() == reflect.Slice:
		items := map[string]any{"type": "string"}
		if of.Elem().Kind() == reflect.Int {
			items["type"] = "integer"
		}
		if k.Values != nil {
			items["enum"] = k.Values
		}
		p["type"], p["items"] = "array", items
		return p
	}
	if k.Values != nil {
		p["enum"] = k.Values
	}
	return p
}

// nothing is for a household that was put together by hand: no key of it was written.
func nothing(string) bool { return false }
