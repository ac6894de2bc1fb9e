package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"cozyshelf/internal/cli/show"

	"github.com/spf13/cobra"
)

// program is the command tree, with a household file in a folder of its own.
func program(t *testing.T) (*app, *cobra.Command) {
	t.Helper()
	dir := t.TempDir()
	t.Chdir(dir)
	text := `format = 1
[household]
name = "Fernhollow Mill"
[server]
engine = "process"
run_as = "1500:1500"
[storage]
state = "` + filepath.Join(dir, "state") + `"
[[shelf]]
name = "films"
kind = "films"
folders = ["` + dir + `/films"]
[[shelf]]
name = "series"
kind = "series"
folders = ["` + dir + `/series"]
`
	if err := os.WriteFile("household.toml", []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	a := &app{version: "0.0.0-test", out: show.To(&bytes.Buffer{}), err: show.To(&bytes.Buffer{}),
		ctx: context.Background()}
	return a, a.root()
}

// TestShellsCompleteWhatThereIs asks as a shell does.
func TestShellsCompleteWhatThereIs(t *testing.T) {
	for line, want := range map[string]string{
		"shelf show ":              "films series",
		"shelf show s":             "series",
		"access films ":            "series join-group own-mode unset-flag acl-user",
		"member add bram --role ":  "admin adult child guest",
		"shelf add x --kind ph":    "photos",
		"usage top ":               "titles parts members",
		"deploy --gen":             "--gently",
		"new --engine p":           "podman process",
		"intake copy x --onto fil": "films",
		"member edit nobody --aw":  "--away",
	} {
		_, root := program(t)
		var out bytes.Buffer
		root.SetOut(&out)
		words := strings.Split(line, " ")
		root.SetArgs(append([]string{"__complete"}, words...))
		if err := root.Execute(); err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, l := range strings.Split(out.String(), "\n") {
			if word, _, _ := strings.Cut(l, "\t"); word != "" && word[0] != ':' {
				got = append(got, word)
			}
		}
		if s := strings.Join(got, " "); !strings.HasPrefix(s, want) {
			t.Errorf("%q is completed by %q, want %q", line, s, want)
		}
	}
}

// TestEveryCommandHasAManualPage writes them.
func TestEveryCommandHasAManualPage(t *testing.T) {
	_, root := program(t)
	root.SetArgs([]string{"man", "pages"})
	if err := root.Execute(); err != nil {
		t.Fatal(err)
	}
	var walk func(c *cobra.Command, path string)
	walk = func(c *cobra.Command, path string) {
		if c.Hidden || c.Name() == "help" || c.IsAdditionalHelpTopicCommand() {
			return
		}
		b, err := os.ReadFile(filepath.Join("pages", path+".1"))
		if err != nil || !strings.Contains(string(b), ".TH") {
			t.Errorf("%s: %v", path, err)
		}
		for _, s := range c.Commands() {
			walk(s, path+"-"+s.Name())
		}
	}
	walk(root, "cozyshelf")
}

// TestWhatWasMeantIsSaidOfFlags gives flags what they do not take.
func TestWhatWasMeantIsSaidOfFlags(t *testing.T) {
	for line, want := range map[string]string{
		"backup --every day --keep x":                   `--keep takes a number, and "x" is none`,
		"backup --every day --keep 0":                   "0 cannot be kept",
		"backup --every day --at 25:00":                 `"25:00" is none`,
		"deploy --gently --for 1x":                      "is no length of time",
		"logs --levl debug":                             "did you mean --level?",
		"logs --since soon":                             "is no time",
		"member add bram":                               "give --role",
		"member edit":                                   "give NAME",
		"retire --for 1h":                               "--for is how long --gently waits",
		"new --timezone Nowhere/City":                   "a household file is there already",
		"shelf add x --kind films --folder /etc/passwd": "is a file",
	} {
		_, root := program(t)
		root.SetArgs(strings.Fields(line))
		err := root.Execute()
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", line, err, want)
		}
	}
}
