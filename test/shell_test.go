package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/testbuild"
)

// TestBashCompletesMembersShelvesAndEntries asks a real bash, with the script that the program
// writes for it.
func TestBashCompletesMembersShelvesAndEntries(t *testing.T) {
	t.Parallel()
	const helpers = "/usr/share/bash-completion/bash_completion"
	if _, err := os.Stat(helpers); err != nil {
		testbuild.Missing(t, "bash-completion")
	}
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	m.add(demo.Person{Name: "wren", Role: allowance.Admin})
	if err := os.WriteFile(m.path("complete.bash"), []byte(m.must("completion", "bash")), 0o600); err != nil {
		t.Fatal(err)
	}
	bin := t.TempDir()
	if err := os.Symlink(testbuild.Program(t), filepath.Join(bin, "cozyshelf")); err != nil {
		t.Fatal(err)
	}
	for line, want := range map[string]string{
		"cozyshelf member edit ":               "wren",
		"cozyshelf shelf show fi":              "films",
		"cozyshelf member add bram --role ":    "admin adult child guest",
		"cozyshelf shelf add x --kind rec":     "recordings",
		"cozyshelf intake fetch x --onto seri": "series",
	} {
		words := strings.Split(line, " ")
		script := fmt.Sprintf(`source %s; source complete.bash; COMP_WORDS=(%s); COMP_CWORD=%d; COMP_LINE=%q; COMP_POINT=%d
__start_cozyshelf; for w in "${COMPREPLY[@]}"; do echo "${w%%%% *}"; done | sort`, helpers, quoted(words),
			len(words)-1, line, len(line))
		c := exec.Command("bash", "-c", script)
		c.Dir = m.dir
		c.Env = append(append(os.Environ(), m.env...), "PATH="+bin+":"+os.Getenv("PATH"))
		out, err := c.Output() // bash complains of an option that only a real prompt has
		if got := strings.Join(strings.Fields(string(out)), " "); err != nil || got != want {
			t.Errorf("%q is completed by %q, %v; want %q", line, got, err, want)
		}
	}
}

// quoted writes words for a shell.
func quoted(words []string) string {
	var out []string
	for _, w := range words {
		out = append(out, "'"+w+"'")
	}
	return strings.Join(out, " ")
}
