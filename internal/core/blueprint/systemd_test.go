package blueprint_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/testbuild"
)

// TestSystemdTakesTheUnit lets systemd's own verifier judge units with awkward names.
func TestSystemdTakesTheUnit(t *testing.T) {
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		testbuild.Missing(t, "systemd-analyze")
	}
	for name, c := range map[string]struct {
		household, state string
		boot             blueprint.Boot
		user             bool
		has              []string
	}{
		"a process": {"Fernhollow Mill", "/srv/cozyshelf/state",
			blueprint.Boot{Start: []string{"/bin/true", "supervise", "--boot", "/var/lib/x"}, AsAccount: true}, false,
			[]string{"User=1500\n", "SupplementaryGroups=44 60001\n", "NoNewPrivileges=yes\n",
				"WantedBy=multi-user.target\n", "TasksMax=512\n"}},
		"podman": {"Fernhollow Mill", "/srv/cozyshelf/state",
			blueprint.Boot{Start: []string{"/bin/true", "start", "x"}, Stop: []string{"/bin/true", "stop", "x"},
				Tells: true}, false,
			[]string{`ExecStop="/bin/true" "stop" "x"`, `ExecStopPost="/bin/true" "stop" "x"`,
				"Environment=PODMAN_SYSTEMD_UNIT=%n\n"}},
		"of an account": {"Fernhollow Mill", "/srv/cozyshelf/state",
			blueprint.Boot{Start: []string{"/bin/true"}, AsAccount: true}, true,
			[]string{"WantedBy=default.target\n"}},
		"awkward names": {"50% \"off\"\n[Service]\nUser=root", "/srv/a \"b\" $HOME 100%/ž",
			blueprint.Boot{Start: []string{"/bin/true", "a b", "$HOME", "100%", `back\slash`, `"quoted"`},
				AsAccount: true}, false, nil},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			u := blueprint.DrawUnit(blueprint.Service{Household: "0123456789ab", Name: c.household, State: c.state,
				UID: 1500, GID: 1500, Groups: []uint32{44, 60001}, Pids: 512, Memory: 1 << 30,
				Env: map[string]string{"TZ": "Europe/Riga"}}, c.boot, dir, c.user)
			for _, s := range c.has {
				if !strings.Contains(u.Text, s) {
					t.Errorf("no %q in\n%s", s, u.Text)
				}
			}
			if strings.Count(u.Text, "[Service]") != 1 && name != "awkward names" ||
				strings.Contains(u.Text, "\nUser=root") {
				t.Errorf("a name broke out:\n%s", u.Text)
			}
			if u.Path() != filepath.Join(dir, "cozyshelf-0123456789ab.service") {
				t.Errorf("path %s", u.Path())
			}
			if err := os.WriteFile(u.Path(), []byte(u.Text), 0o644); err != nil {
				t.Fatal(err)
			}
			args := []string{"verify", u.Path()}
			if c.user {
				args = []string{"--user", "verify", u.Path()}
			}
			verify := exec.Command("systemd-analyze", args...)
			verify.Env = append(os.Environ(), "XDG_RUNTIME_DIR="+dir)
			out, err := verify.CombinedOutput()
			if err != nil || strings.Contains(string(out), u.Name+":") {
				t.Errorf("systemd-analyze: %v\n%s\n%s", err, out, u.Text)
			}
		})
	}
}
