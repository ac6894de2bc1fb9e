package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// TestWhatMessagesAdviseIsThere looks for commands in every message, comment and document, and
// holds their words and flags against the command tree.
func TestWhatMessagesAdviseIsThere(t *testing.T) {
	top, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	_, root := program(t) // in a folder of its own
	command := regexp.MustCompile(`\bcozyshelf((?: +(?:--)?[a-z][a-z-]*| +[A-Z]+…?| +%[sdq])+)`)
	found := 0
	look := func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, ".md") ||
			strings.HasSuffix(path, "_test.go") {
			return err
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for n, line := range strings.Split(string(b), "\n") {
			for _, m := range command.FindAllStringSubmatch(line, -1) {
				words := strings.Fields(m[1])
				c, _, err := root.Find(words[:1])
				if err != nil || c == root {
					continue // a sentence about the program
				}
				found++
				for _, fault := range unheard(c, words[1:]) {
					t.Errorf("%s:%d: cozyshelf%s: there is no %s", path, n+1, m[1], fault)
				}
			}
		}
		return nil
	}
	for _, part := range []string{"internal", "docs", "README.md", "SECURITY.md", "CHANGELOG.md"} {
		if err := filepath.WalkDir(filepath.Join(top, part), look); err != nil {
			t.Error(err)
		}
	}
	if found < 200 {
		t.Errorf("only %d commands were found", found)
	}
}

// unheard gives the words and flags that a command does not know. A word that is neither a
// subcommand's nor a flag ends the command, and the sentence goes on.
func unheard(c *cobra.Command, words []string) []string {
	var out []string
	for _, w := range words {
		switch {
		case strings.HasPrefix(w, "--"):
			if c.Flags().Lookup(w[2:]) == nil && c.InheritedFlags().Lookup(w[2:]) == nil && w != "--help" {
				out = append(out, w)
			}
		case c.HasSubCommands():
			sub, _, err := c.Find([]string{w})
			if err != nil || sub == c {
				if c.Name() != "ledger" && c.Name() != "backup" { // these do something by themselves
					out = append(out, w)
				}
				return out
			}
			c = sub
		case w == strings.ToLower(w) && w[0] != '%' && c.Args != nil && c.Args(c, []string{w}) != nil:
			return out
		}
	}
	return out
}
