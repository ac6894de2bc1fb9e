package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/testbuild"
)

// TestShellsCompleteMembersShelvesAndEntries asks a real bash, zsh and fish, with the script that
// the program writes for each.
func TestShellsCompleteMembersShelvesAndEntries(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	m.add(demo.Person{Name: "wren", Role: allowance.Admin})
	bin := t.TempDir()
	if err := os.Symlink(testbuild.Program(t), filepath.Join(bin, "cozyshelf")); err != nil {
		t.Fatal(err)
	}
	env := append(append(os.Environ(), m.env...), "PATH="+bin+":"+os.Getenv("PATH"), "TERM=dumb")
	for shell, ask := range map[string]func(script, line string) string{
		"bash": bashScript, "zsh": zshScript, "fish": fishScript,
	} {
		t.Run(shell, func(t *testing.T) {
			if _, err := exec.LookPath(shell); err != nil {
				testbuild.Missing(t, shell)
			}
			if _, err := os.Stat(bashHelpers); shell == "bash" && err != nil {
				testbuild.Missing(t, "bash-completion")
			}
			script := "complete." + shell
			if err := os.WriteFile(m.path(script), []byte(m.must("completion", shell)), 0o600); err != nil {
				t.Fatal(err)
			}
			for line, want := range map[string]string{
				"cozyshelf member edit ":               "wren",
				"cozyshelf shelf show fi":              "films",
				"cozyshelf member add bram --role ":    "admin adult child guest",
				"cozyshelf shelf add x --kind rec":     "recordings",
				"cozyshelf intake fetch x --onto seri": "series",
			} {
				c := exec.Command(shell, "-c", ask(script, line))
				c.Dir, c.Env = m.dir, env
				out, err := c.Output() // bash complains of an option that only a real prompt has
				words := strings.Fields(string(out))
				slices.Sort(words)
				if got := strings.Join(words, " "); err != nil || got != want {
					t.Errorf("%q is completed by %q, %v; want %q", line, got, err, want)
				}
			}
		})
	}
}

const bashHelpers = "/usr/share/bash-completion/bash_completion"

func bashScript(script, line string) string {
	words := strings.Split(line, " ")
	return fmt.Sprintf(`source %s; source %s; COMP_WORDS=(%s); COMP_CWORD=%d; COMP_LINE=%q; COMP_POINT=%d
__start_cozyshelf; for w in "${COMPREPLY[@]}"; do echo "${w%%%% *}"; done`, bashHelpers, script, quoted(words),
		len(words)-1, line, len(line))
}

func fishScript(script, line string) string {
	return fmt.Sprintf(`source %s; for w in (complete -C %q); string split -f 1 \t -- $w; end; true`, script, line)
}

// zshScript asks the script in a zsh that somebody sits at, for the completion system works nowhere
// else. What would be offered is written by the function that would offer it.
func zshScript(script, line string) string {
	return fmt.Sprintf(`zmodload zsh/zpty
zpty sitting zsh -f -i
zpty -w sitting 'PS1=; autoload -U compinit; compinit -u -D; source %s; compdef _cozyshelf cozyshelf
_describe() { shift 1; [[ $1 == -* ]] && shift; local w; for w in "${(@P)1}"; do [[ ${w%%%%:*} == ${PREFIX}* ]] && print -r -- "offer=${w%%%%:*}="; done; return 0 }
_arguments() { :; }
bindkey "^I" complete-word; print ready=yes='
zpty -r sitting got '*ready=yes=*'
zpty -w -n sitting %q$'\t'
sleep 1
zpty -w -n sitting $'\C-u'
zpty -w sitting 'print ended=yes='
all=
while zpty -r sitting got; do all+=$got; [[ $got == *ended=yes=* ]] && break; done
zpty -d sitting
print -r -- $all | grep -o 'offer=[^=]*=' | sed 's/^offer=//; s/=$//' | sort -u
`, script, line)
}

// quoted writes words for a shell.
func quoted(words []string) string {
	var out []string
	for _, w := range words {
		out = append(out, "'"+w+"'")
	}
	return strings.Join(out, " ")
}
