package cli

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// TestTheReferenceNamesEveryCommandAndWhatItWrites holds the reference's table against the
// command tree: every command is there, marked J where it takes --json and Y where it takes --yes.
func TestTheReferenceNamesEveryCommandAndWhatItWrites(t *testing.T) {
	b, err := os.ReadFile("../../docs/reference.md")
	if err != nil {
		t.Fatal(err)
	}
	marks := map[string]string{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([a-z -]+)[^`]*` \\| ([JY ]*) ?\\|").FindAllStringSubmatch(string(b), -1) {
		name := strings.TrimSpace(regexp.MustCompile(" --?.*| -$").ReplaceAllString(m[1], ""))
		marks[name] += m[2]
	}
	_, root := program(t)
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, s := range c.Commands() {
			if !s.Hidden && s.Name() != "help" && s.Parent().Name() != "completion" {
				walk(s)
			}
		}
		if !c.Runnable() || c == root || c.HasSubCommands() && c.Args == nil {
			return
		}
		name := strings.TrimPrefix(c.CommandPath(), "cozyshelf ")
		got, ok := marks[name]
		if !ok && !c.HasSubCommands() {
			t.Errorf("%q is not in the reference", name)
			return
		}
		for mark, flag := range map[string]string{"J": "json", "Y": "yes"} {
			if has := c.Flags().Lookup(flag) != nil; ok && has != strings.Contains(got, mark) && name != "new" {
				t.Errorf("%q: --%s is %v, and the reference marks it %q", name, flag, has, got)
			}
		}
	}
	walk(root)
}
