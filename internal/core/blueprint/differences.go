package blueprint

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"cozyshelf/internal/core/household"

	"github.com/dustin/go-humanize"
)

// reasons says in a line why a service's container is made anew.
func reasons(want Service, old []Container) string {
	if len(old) == 0 {
		return "the household has none"
	}
	o := slices.MaxFunc(old, func(a, b Container) int { return a.Started.Compare(b.Started) })
	d := Differences(o.Service, want)
	if len(d) == 0 {
		return "the household file or the program changed"
	}
	return strings.Join(d, "; ")
}

// Differences says what changes from one service to another, a line each.
func Differences(from, to Service) []string {
	if from.Household == "" {
		return nil
	}
	var out []string
	say := func(what string, a, b any) {
		if fmt.Sprint(a) != fmt.Sprint(b) {
			out = append(out, fmt.Sprintf("%s %v → %v", what, a, b))
		}
	}
	out = append(out, listening(from.Listeners, to.Listeners)...)
	if from.Image != to.Image {
		say("ffmpeg in the image", cmp.Or(from.FFmpeg, "none"), cmp.Or(to.FFmpeg, "none"))
		if from.Version != to.Version || from.FFmpeg == to.FFmpeg {
			say("program", from.program(), to.program())
		}
	}
	say("run-as account", fmt.Sprintf("%d:%d", from.UID, from.GID), fmt.Sprintf("%d:%d", to.UID, to.GID))
	say("groups", from.Groups, to.Groups)
	say("memory limit", humanize.IBytes(uint64(from.Memory)), humanize.IBytes(uint64(to.Memory)))
	say("processors", cores(from.NanoCPUs), cores(to.NanoCPUs))
	say("log limit", humanize.IBytes(uint64(from.LogLimit)), humanize.IBytes(uint64(to.LogLimit)))
	say("scratch in memory", humanize.IBytes(uint64(from.Tmpfs)), humanize.IBytes(uint64(to.Tmpfs)))
	say("network", from.Network, to.Network)
	say("time zone", from.Env["TZ"], to.Env["TZ"])
	say("household name", from.Name, to.Name)
	say("devices", from.Devices, to.Devices)
	say("NVIDIA devices", from.GPUs, to.GPUs)
	say("start", from.Start, to.Start)
	say("name servers", from.DNS, to.DNS)
	say("hosts", from.Hosts, to.Hosts)
	out = append(out, mounted(from.Mounts, to.Mounts)...)
	if len(out) == 0 && from.Settings != to.Settings {
		out = append(out, "settings of the server changed in the household file")
	}
	return out
}

// program says which program a service runs.
func (s Service) program() string {
	if s.Image.Program == "" {
		return s.Image.String()
	}
	return s.Version + " (" + short(s.Image.Program) + ")"
}

// listening says what changes about the ports.
func listening(from, to []Listener) []string {
	var out []string
	at := func(list []Listener, p household.Purpose) (Listener, bool) {
		i := slices.IndexFunc(list, func(l Listener) bool { return l.Purpose == p })
		if i < 0 {
			return Listener{}, false
		}
		return list[i], true
	}
	for _, a := range from {
		b, ok := at(to, a.Purpose)
		switch {
		case !ok:
			out = append(out, fmt.Sprintf("no longer on port %d, for %s", a.Port, a.Purpose))
			continue
		case a.Port != b.Port:
			out = append(out, fmt.Sprintf("port %d → %d", a.Port, b.Port))
		}
		if a.Host != b.Host {
			out = append(out, fmt.Sprintf("bind address %s → %s", a.Host, b.Host))
		}
	}
	for _, b := range to {
		if _, ok := at(from, b.Purpose); !ok {
			out = append(out, fmt.Sprintf("also on port %d, for %s", b.Port, b.Purpose))
		}
	}
	return out
}

// mounted says what changes about the mounts.
func mounted(from, to []Mount) []string {
	var out []string
	same := func(m Mount) func(Mount) bool {
		return func(n Mount) bool { return n.Role == m.Role && n.What == m.What && n.Place() == m.Place() }
	}
	named := func(list []Mount, m Mount) bool { // whether something else of it is mounted
		return slices.ContainsFunc(list, func(n Mount) bool { return n.Role == m.Role && n.What == m.What })
	}
	access := map[bool]string{true: "read", false: "change"}
	for _, m := range from {
		i := slices.IndexFunc(to, same(m))
		if i < 0 {
			says := "%s no longer from %s"
			if !named(to, m) {
				says = "no more %s (%s)"
			}
			out = append(out, fmt.Sprintf(says, m.What, m.Place()))
			continue
		}
		n := to[i]
		switch {
		case n.Source != m.Source:
			out = append(out, fmt.Sprintf("how %s mounts %s", m.What, m.Place()))
		case n.ReadOnly != m.ReadOnly:
			out = append(out, fmt.Sprintf("%s: %s → %s", m.What, access[m.ReadOnly], access[n.ReadOnly]))
		case n.Spread != m.Spread:
			out = append(out, fmt.Sprintf("%s: disks mounted later below %s are seen %s", m.What, m.Place(),
				map[bool]string{true: "at once", false: "only after a restart"}[n.Spread]))
		}
	}
	for _, m := range to {
		if !slices.ContainsFunc(from, same(m)) {
			says := "%s also from %s"
			if !named(from, m) {
				says = "new: %s (%s)"
			}
			out = append(out, fmt.Sprintf(says, m.What, m.Place()))
		}
	}
	return out
}

// cores writes a limit of processor cores.
func cores(nano int64) string {
	if nano == 0 {
		return "all"
	}
	return humanize.Ftoa(float64(nano) / 1e9)
}
