package blueprint

import (
	"fmt"
	"path"
	"strings"
)

// Unit is a unit of systemd that starts the server with the machine
// (systemd.service(5)).
type Unit struct {
	Dir    string // where systemd reads it
	Name   string
	Target string // that wants it
	Text   string
}

// Path is where the unit lies.
func (u Unit) Path() string { return path.Join(u.Dir, u.Name) }

// UnitName is the name of a household's unit.
func UnitName(household string) string { return "cozyshelf-" + household + ".service" }

// Boot says how systemd can start a container: the commands to start and stop it,
// and whether the first has to be run as the run-as account.
type Boot struct {
	Start, Stop []string
	AsAccount   bool
	// Tells has the engine told the unit's name, as the units tell it that Podman itself
	// generates: so it knows that systemd sees to the container.
	Tells bool
}

// DrawUnit draws the unit. user says that it is one of an account's own systemd.
func DrawUnit(c Service, b Boot, dir string, user bool) *Unit {
	u := &Unit{Dir: dir, Name: UnitName(c.Household), Target: "multi-user.target"}
	if user {
		u.Target = "default.target"
	}
	var t strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&t, format+"\n", args...) }
	line("# Written by cozyshelf deploy, and removed by cozyshelf retire.")
	line("[Unit]")
	line("Description=Cozy Shelf, the media server of %s", escape(c.Name))
	if !user {
		line("Wants=network-online.target")
		line("After=network-online.target local-fs.target remote-fs.target")
	}
	line("RequiresMountsFor=%s", quoteUnit(c.State))
	line("\n[Service]")
	line("Type=exec")
	line("ExecStart=%s", commandLine(b.Start))
	if len(b.Stop) > 0 {
		line("ExecStop=%s", commandLine(b.Stop))
		line("ExecStopPost=%s", commandLine(b.Stop))
	}
	if b.Tells {
		line("Environment=PODMAN_SYSTEMD_UNIT=%%n")
	}
	if b.AsAccount && !user {
		line("User=%d", c.UID)
		line("Group=%d", c.GID)
		if len(c.Groups) > 0 {
			line("SupplementaryGroups=%s", strings.Trim(fmt.Sprint(c.Groups), "[]"))
		}
		line("NoNewPrivileges=yes")
		line("MemoryMax=%d", c.Memory)
		line("TasksMax=%d", c.Pids)
	}
	line("Environment=%s", quoteUnit("TZ="+c.Env["TZ"]))
	line("KillMode=mixed")
	line("TimeoutStopSec=20")
	line("Restart=on-failure")
	line("RestartSec=5")
	line("\n[Install]")
	line("WantedBy=%s", u.Target)
	u.Text = t.String()
	return u
}

// escape takes the meaning from what systemd would read as a specifier, and from
// line breaks.
func escape(s string) string {
	return strings.NewReplacer("%", "%%", "\n", " ", "\r", " ").Replace(s)
}

// quoteUnit writes one word (systemd.syntax(7)).
func quoteUnit(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(escape(s)) + `"`
}

func commandLine(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = quoteUnit(strings.ReplaceAll(w, "$", "$$"))
	}
	return strings.Join(out, " ")
}
