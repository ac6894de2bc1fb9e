package blueprint

import (
	"cmp"
	"fmt"
	"math"
	"net/netip"
	"path"
	"slices"
	"strings"

	"cozyshelf/internal/core/encoders"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/layout"
)

// NetworkIPv6 ends the name of a network of the household's own that carries IPv6, so that
// one that does not is replaced by it.
const NetworkIPv6 = "-ipv6"

// Draw draws the blueprint.
func Draw(h *household.Household, s Site) Blueprint {
	d := &drawing{h: h, site: s, id: ID(h.Storage.State)}
	d.bp = Blueprint{Engine: s.Engine, Household: d.id, Bare: !s.Can.Isolates, OwnerUID: s.UID, OwnerGID: s.GID,
		State: h.Storage.State}
	if len(s.Host.Groups) > 0 {
		d.bp.OwnerUID, d.bp.OwnerGID = s.Host.UID, s.Host.Groups[0]
	}
	d.server()
	d.settings()
	d.history()
	d.network()
	d.certificate()
	d.storage()
	d.routines()
	for _, shelf := range h.Shelves {
		d.shelf(shelf)
	}
	d.bp.Settings = d.set
	d.srv.Settings = digestOf(d.set.JSON())[:16]
	d.srv.Command = []string{"serve", "--settings", path.Join(d.set.State, d.set.File())}
	d.bp.Services = []Service{d.srv}
	d.bp.Unit = s.unit(d.srv)
	return d.bp
}

// Again gives a blueprint of what was deployed before: the same folders, with the services
// and the settings of then.
func (b Blueprint) Again(s Site, services []Service, settings []byte) Blueprint {
	b = b.With(services...)
	b.SettingsText = settings
	b.Unit = s.unit(b.Server())
	return b
}

// unit draws the unit of systemd that starts a server with the machine, where it is wanted
// and the engine does not see to it.
func (s Site) unit(server Service) *Unit {
	if s.Units == "" || s.Boot == nil || server.Start != household.StartBoot {
		return nil
	}
	boot, ok := s.Boot(server)
	if !ok {
		return nil
	}
	return DrawUnit(server, boot, s.Units, s.OwnUnits)
}

// drawing is a blueprint that is being drawn.
type drawing struct {
	h    *household.Household
	site Site
	id   string
	bp   Blueprint
	srv  Service
	set  Settings
}

// server draws the server, but for where it is and what it sees.
func (d *drawing) server() {
	h, s := d.h, d.site
	// NVIDIA's devices are the engine's to bring, with the part of their driver that is outside the kernel.
	var devices, gpus []string
	for _, p := range h.Mapped() {
		if encoders.KindOf(p) == encoders.NVIDIA && s.Can.Isolates {
			gpus = append(gpus, strings.TrimPrefix(p, "/dev/nvidia"))
			continue
		}
		devices = append(devices, p)
	}
	c := Service{
		Household: d.id, Name: h.Household.Name, Key: ServerKey, Role: RoleServer,
		Image: Image{Program: s.Image}, Version: s.Version, FFmpeg: s.FFmpeg,
		UID: s.UID, GID: s.GID, Groups: slices.Sorted(slices.Values(s.Groups)),
		Env:      map[string]string{"TZ": h.Household.Timezone},
		NanoCPUs: int64(h.Server.Processors * 1e9), LogLimit: int64(h.Server.LogLimit),
		Pids: 512, Memory: int64(h.Server.Memory), State: h.Storage.State, Health: serverHealth(),
		Devices: devices, GPUs: gpus, Start: h.Server.Start, DNS: h.Server.DNS,
	}
	for name, addr := range h.Server.Hosts {
		c.Hosts = append(c.Hosts, name+"="+addr)
	}
	slices.Sort(c.Hosts)
	c.Groups = slices.DeleteFunc(c.Groups, func(g uint32) bool { return g == s.GID })
	// The Go runtime keeps its own part below the limit, with room for what it
	// does not count.
	if n := int(math.Ceil(h.Server.Processors)); n > 0 {
		// One at least for what takes long, and one for what must not wait for it.
		c.Env["GOMAXPROCS"] = fmt.Sprint(max(2, n))
	}
	c.Env["GOMEMLIMIT"] = fmt.Sprint(int64(h.Server.Memory) * 9 / 10)
	d.srv = c
}

// settings draws what the server needs of the household file.
func (d *drawing) settings() {
	h, s := d.h, d.site
	d.set = Settings{
		Format: 1, Household: d.id, Name: h.Household.Name, Timezone: h.Household.Timezone,
		Language: h.Household.Language, UnknownAge: h.Household.UnknownAge, State: StateInside, Scratch: ScratchInside,
		ScratchLimit:  int64(h.Storage.ScratchLimit),
		RemoteAddress: strings.TrimSuffix(h.Remote.Address, "/"), TrustedProxies: h.Remote.TrustedProxies,
		AllowedNetworks: h.Remote.AllowedNetworks, RefusedNetworks: h.Remote.RefusedNetworks,
		AllowPlain: h.Remote.AllowPlain, SecondFactor: h.Remote.SecondFactor,
		HistoryChoice: h.Usage.Choice, Administration: h.Page.Administration, Names: slices.Concat(s.Names, h.Server.Names),
		HidesClients: s.Can.Isolates && h.HidesClients(s.HidesClients, s.IPv6),
		Umask:        h.Server.UmaskBits(), LogLevel: h.Server.LogLevel, LogFormat: h.Server.LogFormat,
		Syslog:  h.Server.Syslog,
		Notices: h.Notices,
	}
	if h.Remote.Name.Wanted() {
		name := h.Remote.Name
		d.set.RemoteName = &name
	}
}

// history draws for how long plays are kept with names.
func (d *drawing) history() { d.set.History, _ = d.h.Usage.HistoryDays() } // what cannot be read is refused before

// network draws what the server listens on, and on which network.
func (d *drawing) network() {
	h, c := d.h, &d.srv
	switch {
	case !d.site.Can.Networks || h.Server.Network == "host":
		c.Network = "host"
	case h.Server.Network == "own":
		c.Network, c.OwnNet = "cozyshelf-"+d.id, true
		if d.site.IPv6 {
			c.Network += NetworkIPv6
		}
	default:
		c.Network = h.Server.Network
	}
	bind, _ := h.Server.BindAddr() // checked when the file was read
	for _, l := range h.Listeners() {
		out := Listener{Purpose: l.Purpose, Inside: l.Inside, Host: bind.String(), Port: l.Port, TLS: l.TLS}
		listen := netip.AddrPortFrom(netip.IPv6Unspecified(), uint16(l.Inside))
		switch {
		case c.Network == "host":
			out.Inside = l.Port
			listen = netip.AddrPortFrom(bind, uint16(l.Port))
		case bind.IsUnspecified() && !(c.OwnNet && d.site.IPv6):
			// The network has no IPv6. Published on it all the same, whoever comes
			// by it would seem to come from the engine's gateway, which is at home.
			out.Host = netip.IPv4Unspecified().String()
		}
		c.Listeners = append(c.Listeners, out)
		d.set.Listeners = append(d.set.Listeners, SettingsListener{Purpose: out.Purpose, Address: listen.String(),
			Port: l.Port, TLS: l.TLS})
	}
}

// certificate draws where the server's certificate comes from.
func (d *drawing) certificate() {
	x := d.h.Remote.Certificate
	if !d.h.Remote.HTTPS() {
		return
	}
	d.set.Certificate = &SettingsCertificate{From: x.From}
	in := path.Clean(x.Folder)
	if len(x.Files()) > 0 {
		m := Mount{Role: MountCertificate, Source: in, Target: CertificateInside, ReadOnly: true, What: "certificate"}
		d.srv.Mounts = append(d.srv.Mounts, m)
		if d.site.Can.Isolates {
			in = m.Target
		}
	}
	inside := func(name string) string {
		if name == "" {
			return ""
		}
		return path.Join(in, name)
	}
	switch to := d.set.Certificate; x.From {
	case household.CertificateFiles:
		to.Chain, to.Key = inside(x.Chain), inside(x.Key)
	case household.CertificateACME:
		to.Authority, to.Contact = cmp.Or(x.Authority, household.PublicAuthority), x.Contact
		to.Credentials, to.Roots, to.Nameserver = inside(x.Credentials), inside(x.Roots), x.Nameserver
	}
}

// storage draws the server's own folders.
func (d *drawing) storage() {
	h, c := d.h, &d.srv
	if !d.site.Can.Isolates {
		d.set.State = h.Storage.State
	}
	c.Mounts = append(c.Mounts, Mount{Role: MountState, Source: h.Storage.State, Target: StateInside, What: "state"})
	switch {
	case h.Storage.Scratch != "memory":
		d.bp.Scratch = h.Storage.Scratch
		c.Mounts = append(c.Mounts, Mount{Role: MountScratch, Source: h.Storage.Scratch, Target: ScratchInside,
			What: "scratch"})
		if !d.site.Can.Isolates {
			d.set.Scratch = h.Storage.Scratch
		}
	case d.site.Can.Isolates:
		c.Tmpfs = int64(h.Storage.ScratchLimit)
		c.Memory += c.Tmpfs
	default:
		// A process has no mounts of its own: scratch lies in the state
		// folder, under the same bound.
		d.set.Scratch = path.Join(h.Storage.State, layout.Scratch)
	}
}

// routines draws what the server does by itself: backups, lookups, the work of quiet hours.
func (d *drawing) routines() {
	h := d.h
	if b := h.Backup; b.Every != "" {
		d.set.Backup = &SettingsBackup{Every: b.Every, At: b.At, Keep: b.Keep,
			Folder: path.Join(d.set.State, Backups), Shown: path.Join(h.Storage.State, Backups)}
		if b.Folder != "" {
			d.set.Backup.Folder, d.set.Backup.Shown, d.bp.Backups = BackupsInside, b.Folder, b.Folder
			if !d.site.Can.Isolates {
				d.set.Backup.Folder = b.Folder
			}
			d.srv.Mounts = append(d.srv.Mounts, Mount{Role: MountBackups, Source: path.Clean(b.Folder),
				Target: BackupsInside, What: "backups"})
		}
	}
	if l := h.Lookup; len(l.Sources) > 0 {
		pause, _ := l.PauseOf() // checked when the file was read
		d.set.Lookup = &SettingsLookup{Pause: int64(pause), Sources: l.Sources,
			Wikidata:    cmp.Or(l.Wikidata, household.PublicWikidata),
			Commons:     cmp.Or(l.Commons, household.PublicCommons),
			MusicBrainz: cmp.Or(l.MusicBrainz, household.PublicMusicBrainz),
			Covers:      cmp.Or(l.Covers, household.PublicCovers)}
	}
	if c := h.Convert; h.Converts() {
		d.set.Convert = &SettingsConvert{Never: c.When == household.ConvertNever,
			Needed: c.When == household.ConvertNeeded, AtOnce: max(0, int(c.AtOnce)),
			Measured: c.AtOnce == household.AsMeasured, Ladder: c.Ladder}
		if c.Device != encoders.Auto {
			d.set.Convert.Device = c.Device
		}
		if c.PreparedLimit != household.DefaultPrepare {
			d.set.Convert.Prepared = int64(c.PreparedLimit)
		}
	}
	if q := h.Quiet; len(q.Work) > 0 {
		d.set.Quiet = &SettingsQuiet{Work: q.Work, Hours: cmp.Or(q.Hours, household.QuietHours)}
	}
}

// shelf draws the mounts of a shelf.
func (d *drawing) shelf(s household.Shelf) {
	in := SettingsShelf{Name: s.Name, Kind: s.Kind, Access: s.Access, Shown: s.Folders, Every: s.ScanEvery}
	for i, f := range s.Folders {
		m := Mount{Role: MountShelf, Source: path.Clean(f), Target: path.Join(ShelvesInside, s.Name, fmt.Sprint(i+1)),
			ReadOnly: s.Access != household.Change, What: s.Name}
		seen := m.Target
		switch {
		case household.IsShare(f):
			v := volume(d.h, s, i, d.site)
			d.bp.Volumes = append(d.bp.Volumes, v)
			m.Source, m.Volume, m.Shown = v.Name, true, f
		case !d.site.Can.Isolates:
			seen = m.Source
		default:
			m.Spread = d.site.Spread != nil && d.site.Spread(m.Source)
		}
		d.srv.Mounts = append(d.srv.Mounts, m)
		in.Folders = append(in.Folders, seen)
	}
	d.set.Shelves = append(d.set.Shelves, in)
}
