package household

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"text/template"
)

// Compose writes a commented household file that Decode reads back as h.
func Compose(h Household) []byte {
	h.defaults(nothing)
	var b bytes.Buffer
	if err := composed.Execute(&b, h); err != nil {
		panic(err) // the template is ours and is tested
	}
	return b.Bytes()
}

var composed = template.Must(template.New("").Funcs(template.FuncMap{
	"q": quote,
	"table": func(in map[string]string) string {
		var out []string
		for _, k := range slices.Sorted(maps.Keys(in)) {
			out = append(out, quote(k)+" = "+quote(in[k]))
		}
		return "{ " + strings.Join(out, ", ") + " }"
	},
	"numbers": func(in []int) string {
		return strings.ReplaceAll(fmt.Sprint(in), " ", ", ")
	},
	"list": func(in []string) string {
		out := make([]string, len(in))
		for i, s := range in {
			out[i] = quote(s)
		}
		return "[" + strings.Join(out, ", ") + "]"
	},
}).Parse(`# The household file: everything Cozy Shelf should know about this household.
# After a change: cozyshelf check, then cozyshelf deploy.

format = 1

[household]
name     = {{q .Household.Name}}
timezone = {{q .Household.Timezone}}
language = {{q .Household.Language}}
{{- if and .Household.UnknownAge (ne .Household.UnknownAge 18)}}
unknown_age = {{.Household.UnknownAge}}
{{- end}}

[server]
engine  = {{q .Server.Engine}}    # auto, docker, podman, process
run_as  = {{q .Server.RunAs}}    # an account of this machine, or "uid:gid"
{{- with .Server.Groups}}
groups  = {{list .}}    # further groups, by name or number
{{- end}}
{{- with .Server.Devices}}
devices = {{list .}}
{{- end}}
port    = {{.Server.Port}}
bind    = {{q .Server.Bind}}    # lan (every address of this machine), localhost, or an address
network = {{q .Server.Network}}    # own, host, or an existing network of the engine
memory  = {{q .Server.Memory.String}}    # for the server itself; scratch in memory comes on top
{{- if .Server.Processors}}
processors = {{printf "%.3f" .Server.Processors}}
{{- end}}
{{- if ne .Server.LogLimit 16777216}}
log_limit = {{q .Server.LogLimit.String}}
{{- end}}
{{- if ne .Server.Start "boot"}}
start   = {{q (print .Server.Start)}}
{{- end}}
{{- with .Server.Version}}
version = {{q .}}    # another program refuses to deploy
{{- end}}
{{- if ne .Server.Umask "0022"}}
umask   = {{q .Server.Umask}}
{{- end}}
{{- with .Server.DNS}}
dns     = {{list .}}
{{- end}}
{{- with .Server.Hosts}}
hosts   = {{table .}}
{{- end}}
{{- with .Server.Names}}
names   = {{list .}}    # further names by which people ask for the server
{{- end}}
{{- if ne .Server.LogLevel "info"}}
log_level  = {{q .Server.LogLevel}}
{{- end}}
{{- if ne .Server.LogFormat "text"}}
log_format = {{q .Server.LogFormat}}
{{- end}}
{{- with .Server.Syslog}}
syslog = {{q .}}
{{- end}}

[storage]
state         = {{q .Storage.State}}    # the server's own folder: keep it, back it up
scratch       = {{q .Storage.Scratch}}    # memory, or a folder; always expendable
scratch_limit = {{q .Storage.ScratchLimit.String}}
{{range .Shelves}}
[[shelf]]
name    = {{q .Name}}
kind    = {{q (print .Kind)}}    # films, series, music, photos, recordings
folders = {{list .Folders}}
access  = {{q (print .Access)}}    # read, or change
{{- with .Credentials}}
credentials = {{q .}}    # username= and password=, a line each, mode 0600
{{- end}}
{{- with .ScanEvery}}
scan_every = {{q .}}    # day, week, never, or hours such as "6h"; beside at once when files change
{{- end}}
{{else}}
# [[shelf]]
# name    = "films"
# kind    = "films"               # films, series, music, photos, recordings
# folders = ["/srv/media/films"]
# access  = "read"                # read, or change
{{end}}
{{- if .Remote.Address}}
[remote]
address         = {{q .Remote.Address}}
trusted_proxies = {{list .Remote.TrustedProxies}}
{{- if and .Remote.SecondFactor (ne .Remote.SecondFactor "admins")}}
second_factor   = {{q .Remote.SecondFactor}}    # who needs one from outside: admins, everybody, nobody
{{- end}}
{{- with .Remote.AllowedNetworks}}
allowed_networks = {{list .}}    # alone from there somebody may come in
{{- end}}
{{- with .Remote.RefusedNetworks}}
refused_networks = {{list .}}
{{- end}}
{{- if .Remote.AllowPlain}}
allow_plain     = true    # answer from outside over plain HTTP, too
{{- end}}
{{else}}
# [remote]
# address         = "https://shelf.example.net"
# trusted_proxies = ["192.0.2.10"]    # whose X-Forwarded-For is believed
{{end}}
{{- with .Remote.Certificate}}{{if and .From (ne .From "none")}}
[remote.certificate]
from = {{q .From}}    # home, files, acme; none for no HTTPS of the server's own
port = {{.Port}}
{{- if .Folder}}
folder = {{q .Folder}}
{{- end}}
{{- if .Chain}}
chain = {{q .Chain}}
{{- end}}
{{- if .Key}}
key = {{q .Key}}
{{- end}}
{{- if .Credentials}}
credentials = {{q .Credentials}}
{{- end}}
{{- if .Roots}}
roots = {{q .Roots}}
{{- end}}
{{- if .Nameserver}}
nameserver = {{q .Nameserver}}
{{- end}}
{{- if .Authority}}
authority = {{q .Authority}}
{{- end}}
{{- if .Contact}}
contact = {{q .Contact}}
{{- end}}
{{- if .Agree}}
agree = true    # to the authority's terms
{{- end}}
{{end}}{{end}}
{{- with .Remote.Name}}{{if .Learn}}
[remote.name]
keep  = {{q .Keep}}    # dns, web; none only says where the name stands for something else
learn = {{q .Learn}}    # stun, interface
{{- if .STUN}}
stun = {{list .STUN}}
{{- end}}
{{- if .Interface}}
interface = {{q .Interface}}
{{- end}}
{{- if .Nameserver}}
nameserver = {{q .Nameserver}}
{{- end}}
{{- if .Zone}}
zone = {{q .Zone}}
{{- end}}
{{- if .Address}}
address = {{q .Address}}
{{- end}}
{{- if .User}}
user = {{q .User}}
{{- end}}
{{- if .Secret}}
secret = {{q .Secret}}
{{- end}}
{{end}}{{end}}
{{- if .Backup.Every}}
[backup]
every = {{q .Backup.Every}}
at    = {{q .Backup.At}}
keep  = {{.Backup.Keep}}
{{- with .Backup.Folder}}
folder = {{q .}}
{{- end}}
{{end}}
{{- if .Lookup.Sources}}
[lookup]
sources = {{list .Lookup.Sources}}
{{- with .Lookup.Wikidata}}
wikidata = {{q .}}
{{- end}}
{{- with .Lookup.Commons}}
commons = {{q .}}
{{- end}}
{{- with .Lookup.MusicBrainz}}
musicbrainz = {{q .}}
{{- end}}
{{- with .Lookup.Covers}}
covers = {{q .}}
{{- end}}
{{- with .Lookup.Pause}}
pause = {{q .}}
{{- end}}
{{end}}
{{- if .Quiet.Work}}
[quiet]
work  = {{list .Quiet.Work}}
{{- with .Quiet.Hours}}
hours = {{q .}}
{{- end}}
{{end}}
{{- if .Converts}}
[convert]
{{- with .Convert.When}}
when = {{q .}}
{{- end}}
{{- with .Convert.Device}}
device = {{q .}}
{{- end}}
{{- with .Convert.AtOnce}}
at_once = {{.}}
{{- end}}
{{- with .Convert.Ladder}}
ladder = {{numbers .}}
{{- end}}
{{- with .Convert.PreparedLimit}}
prepared_limit = {{q .String}}
{{- end}}
{{end}}
{{- if or (and .Usage.History (ne .Usage.History "forever")) (and .Usage.Choice (ne .Usage.Choice "members"))}}
[usage]
{{- with .Usage.History}}
history = {{q .}}
{{- end}}
{{- with .Usage.Choice}}
choice = {{q .}}
{{- end}}
{{end}}
{{- range .Notices}}
[[notice]]
name = {{q .Name}}
to   = {{q .To}}    # webhook, mail, program
{{- with .Address}}
address = {{q .}}
{{- end}}
{{- with .Secret}}
secret = {{q .}}    # a file of mode 0600
{{- end}}
{{- with .User}}
user = {{q .}}
{{- end}}
{{- with .From}}
from = {{q .}}
{{- end}}
{{- with .Recipients}}
recipients = {{list .}}
{{- end}}
{{- with .Program}}
program = {{q .}}
{{- end}}
{{- with .Events}}
events = {{list .}}
{{- end}}
{{- with .Members}}
members = {{list .}}
{{- end}}
{{- with .Quiet}}
quiet = {{q .}}
{{- end}}
{{- with .Gather}}
gather = {{q .}}
{{- end}}
{{end}}
{{- if and .Page.Administration (ne .Page.Administration "home")}}
[page]
administration = {{q .Page.Administration}}
{{end}}`))

// quote writes a TOML basic string.
func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < ' ' || r == 0x7f:
			b.WriteString(`\u` + strings.Repeat("0",
				4-len(strconv.FormatInt(int64(r), 16))) + strconv.FormatInt(int64(r), 16))
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
