package verdict

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
)

// TestMachinesThatWeDoNotHave judges households on facts of other machines, as
// cozyshelf check --facts writes them.
func TestMachinesThatWeDoNotHave(t *testing.T) {
	type want struct {
		what   string
		status Status
		says   string // in what it says, does or details
	}
	// An engine on another machine: its folders are not ours to judge.
	h, far := well()
	far.Engine.Elsewhere, far.Shelves[0].Folders[0] = true, facts.Folder{Path: "/srv/films"}
	if lines := Judge(h, far); Worst(lines) != Warning {
		t.Errorf("elsewhere: got %+v", lines)
	}
	for name, c := range map[string]struct {
		change func(h *household.Household)
		worst  Status
		lines  []want
	}{
		"arm32-1gib": {nil, Blocked, []want{
			{"architecture", OK, "linux/arm, 2 processor cores, 32 bits"},
			{"memory", Blocked, "lower memory"},
			{"memory limit", Warning, "cgroup_enable=memory"},
			{"shelf films", OK, "412 of 412"},
		}},
		"arm32-1gib small": {func(h *household.Household) {
			h.Server.Memory, h.Storage.ScratchLimit = 128<<20,
				64<<20
		}, Warning, []want{
			{"memory", OK, "192 MiB"}, {"memory limit", Warning, "is not held"},
		}},
		"arm32-1gib scratch": {func(h *household.Household) {
			h.Server.Memory, h.Storage.ScratchLimit = 128<<20,
				256<<20
		}, Blocked, []want{
			{"memory", Blocked, `scratch_limit = "210 MiB"`}, {"memory", Blocked, "together: 384 MiB"},
		}},
		"btrfs-nas": {func(h *household.Household) { h.Server.Devices = []string{"/dev/dri"} }, OK, []want{
			{"engine's disk", OK, "btrfs in /volume/engine"}, {"device", OK, "group videodriver, driver i915"},
			{"shelf films", OK, "/volume/media/films"},
		}},
		"btrfs-nas without": {func(h *household.Household) { h.Server.Devices = []string{"/dev/none"} }, Blocked,
			[]want{{"device", Blocked, "/dev/none is not there"}}},
		"btrfs-nas unmapped": {nil, OK, []want{{"graphics", OK,
			"/dev/dri/renderD128 (group videodriver, driver i915); not used"}}},
		"old-engine": {nil, Blocked, []want{
			{"engine version", Blocked, "API 1.38, and 1.40 is needed"}, {"engine's disk", Blocked, "100 MiB free"},
		}},
		"rootless": {nil, Blocked, []want{
			{"ids", OK, "1500:1500 inside is 101499:101499"}, {"shelf films", Blocked, "user 101499"},
		}},
		"rootless docker": {func(h *household.Household) { h.Server.Network = "host" }, Blocked,
			[]want{{"shelf films", Blocked, "user 101499"}}},
		"no-acls": {nil, Blocked, []want{
			{"shelf films", Blocked, "can be unplugged: /dev/sdc1 (vfat)"},
			{"shelf films", Blocked, "mount -o uid=1500"}, {"shelf films", Blocked, "stores no owners"},
		}},
		"selinux-and-shares": {nil, Warning, []want{
			{"selinux", OK, "labelled"}, {"one share", OK, "films, series lie on nas.home.arpa:/export"},
			{"shelf photos", Warning, "mount /srv/photos first"},
			{"firewall", OK, "forwarded past"}, {"shelf films", OK, "has the last word"},
		}},
		"selinux-and-shares host": {func(h *household.Household) { h.Server.Network = "host" }, Warning,
			[]want{{"firewall", Warning, "tcp dport 26990 accept"}}},
	} {
		t.Run(name, func(t *testing.T) {
			file, _, _ := strings.Cut(name, " ")
			b, err := os.ReadFile("testdata/" + file + ".json")
			if err != nil {
				t.Fatal(err)
			}
			var f facts.Facts
			if err := json.Unmarshal(b, &f); err != nil {
				t.Fatal(err)
			}
			h, _ := well()
			h.Server.Port, h.Server.Bind, h.Server.Network = 26990, "lan", "own"
			if c.change != nil {
				c.change(h)
			}
			lines := Judge(h, f)
			if got := Worst(lines); got != c.worst {
				t.Errorf("worst: got %s, want %s", got, c.worst)
			}
			for _, w := range c.lines {
				found := false
				for _, l := range lines {
					text := l.Says + "\n" + l.Do + "\n" + strings.Join(append(l.Details, l.Commands...), "\n")
					if l.What == w.what {
						found = found || l.Status == w.status && strings.Contains(text, w.says)
					}
					if l.Status != OK && l.Do == "" {
						t.Errorf("%s is %s, and nothing is said to do", l.What, l.Status)
					}
				}
				if !found {
					t.Errorf("want %s %s with %q, got %+v", w.what, w.status, w.says, lines)
				}
			}
		})
	}
}

// TestBothPortsPassTheFilter judges a machine whose packet filter keeps the port of HTTPS out, and not the other one.
func TestBothPortsPassTheFilter(t *testing.T) {
	h, f := well()
	h.Server.Port, h.Server.Bind, h.Server.Network = 26990, "lan", "host"
	h.Remote.Certificate.From, h.Remote.Certificate.Port = household.CertificateHome, 26943
	f.Firewall = facts.Firewall{Known: true, Active: true, Source: "nftables"}
	f.Ports = append(f.Ports, facts.Port{Purpose: household.ForHTTPS, Number: 26943, Address: ":26943",
		Holder: "nginx", Next: 26944})
	f.HTTPSFirewall = &facts.Firewall{Known: true, Active: true, Source: "nftables", Blocks: true, Rule: "policy drop"}
	var said []string
	for _, l := range Judge(h, f) {
		if strings.HasPrefix(l.Says, ":26943 ") && !strings.Contains(l.Do, "port = 26944 under [remote.certificate]") {
			t.Errorf("%+v", l)
		}
		if l.What == "firewall" {
			said = append(said, string(l.Status)+" "+l.Says+" "+strings.Join(l.Commands, " "))
		}
	}
	if len(said) != 2 || !strings.HasPrefix(said[0], "ok") || !strings.Contains(said[0], "26990") ||
		!strings.HasPrefix(said[1], "warning") || !strings.Contains(said[1], "dport 26943 accept") {
		t.Errorf("%q", said)
	}
}
