package test

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"cozyshelf/internal/ledger"
	"cozyshelf/internal/testbuild"
)

// TestTheGuideIsFollowedWordForWord runs every command that the guide and the README show, in
// their order, in a shell: with --yes where one would answer, and with the folders of this
// household in place of the guide's.
func TestTheGuideIsFollowedWordForWord(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"docs/guide.md", "README.md"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(filepath.Join("..", name))
			if err != nil {
				t.Fatal(err)
			}
			follow(t, string(text), map[string]int{"docs/guide.md": 30, "README.md": 4}[name])
		})
	}
}

// TestTheExamplesOfHelpAreRun runs the examples that commands show with --help.
func TestTheExamplesOfHelpAreRun(t *testing.T) {
	t.Parallel()
	follow(t, "    cozyshelf deploy\n"+examplesOf(t), 6)
}

// examplesOf gives the examples of a command's help, and of those of its subcommands.
func examplesOf(t *testing.T, words ...string) string {
	t.Helper()
	out, err := exec.Command(testbuild.Program(t), append(words, "--help")...).Output()
	if err != nil {
		t.Fatalf("%s --help: %v", strings.Join(words, " "), err)
	}
	_, examples, _ := strings.Cut(string(out), "\nExamples:\n")
	examples, _, _ = strings.Cut(examples, "\n\n")
	text := ""
	for line := range strings.Lines(examples) {
		text += "  " + line
	}
	text += "\n"
	_, rest, _ := strings.Cut(string(out), " [command]\n")
	rest, _, _ = strings.Cut(rest, "\nFlags:")
	for _, m := range regexp.MustCompile(`(?m)^  ([a-z]+)  `).FindAllStringSubmatch(rest, -1) {
		if m[1] != "help" && m[1] != "completion" {
			text += examplesOf(t, append(slices.Clone(words), m[1])...)
		}
	}
	return text
}

// follow runs the commands of a text, of which there must be so many at least.
func follow(t *testing.T, text string, least int) {
	m := newMill(t, "process")
	film, err := os.ReadFile(m.path("media/films/Copper Kite (2003).mkv"))
	if err != nil {
		t.Fatal(err)
	}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(film) }))
	defer web.Close()
	for p, content := range map[string][]byte{"usb/The Mill at Night (2011).mkv": film, "stick/.keep": nil,
		"other/.keep": nil, "etc/.keep": nil} {
		if err := errors.Join(os.MkdirAll(filepath.Dir(m.path(p)), 0o755), os.WriteFile(m.path(p), content, 0o644),
			os.Chmod(filepath.Dir(m.path(p)), 0o755)); err != nil {
			t.Fatal(err)
		}
	}
	program := testbuild.Program(t)
	newer := testbuild.Variant{Version: "2.0.0", Tags: "crashpoint", Newer: true}.Program(t)
	if err := errors.Join(os.Symlink(program, m.path("cozyshelf")),
		os.Symlink(newer, m.path("cozyshelf-new"))); err != nil {
		t.Fatal(err)
	}
	place := strings.NewReplacer("https://example.net/film.mp4", web.URL+"/film.mkv --private", "/media/usb",
		m.path("usb"),
		"/mnt/stick", m.path("stick"), "/mnt/other", m.path("other"), "/srv/media", m.path("media"),
		"/srv/cozyshelf", m.path("elsewhere"), "/etc/bash_completion.d", m.path("etc"),
		"/usr/local/share/zsh/site-functions", m.path("etc"), "/etc/fish/completions", m.path("etc"))
	ran := 0
	for _, line := range commandLines(text) {
		if line == "cozyshelf new" {
			continue // it asks; the tests of prompts go through it
		}
		given := line
		line = place.Replace(line)
		if strings.Contains(line, "ENTRY") {
			line = strings.ReplaceAll(line, "ENTRY", lastUndoable(t, m))
		}
		if strings.Contains(line, "FILE") {
			list, err := filepath.Glob(m.path("fernhollow-mill-*.tar.zst"))
			if err != nil || len(list) == 0 {
				t.Fatalf("%s: there is no backup here, %v", given, err)
			}
			line = strings.ReplaceAll(line, "FILE", list[0])
		}
		switch words := strings.Fields(line); {
		case strings.HasPrefix(line, "cozyshelf new "):
			line += " --household another.toml"
		case line == "cozyshelf logs --follow":
			line = "timeout -s INT 2 " + line + " || test $? = 124"
		case strings.Contains(line, "--encrypt"):
			line += " --passphrase-file -"
		case !strings.Contains(line, ">"):
			asked := words[1:min(3, len(words))]
			if len(asked) == 2 && strings.HasPrefix(asked[1], "-") {
				asked = asked[:1]
			}
			if help, err := exec.Command(program, append(slices.Clone(asked), "--help")...).Output(); err != nil {
				t.Errorf("%s: no help: %v", given, err)
			} else if strings.Contains(string(help), "--yes") {
				line += " --yes"
			}
		}
		c := exec.Command("sh", "-c", line)
		c.Dir, c.Env = m.dir, append(slices.Clone(m.env), "PATH="+m.dir+":"+os.Getenv("PATH"))
		c.Stdin = strings.NewReader(strings.Repeat("lantern by the millpond\n", 2))
		out, err := c.CombinedOutput()
		ran++
		t.Logf("$ %s\n%.600s", line, out)
		if warned := "chown " + m.runAs + " " + m.path("other"); strings.HasSuffix(line, m.path("other")+" --yes") {
			if !strings.Contains(string(out), warned) {
				t.Errorf("%s does not say %q:\n%s", given, warned, out)
			}
			if err := exec.Command("sh", "-c", warned).Run(); err != nil {
				t.Fatal(err)
			}
		}
		// Two of them end with 3 where something is amiss on the shelves, as it is here.
		looks := strings.HasPrefix(line, "cozyshelf check") || strings.HasPrefix(line, "cozyshelf access")
		if err != nil && !(looks && c.ProcessState.ExitCode() == 3) {
			t.Errorf("%s: %v\n%s", given, err, out)
		}
	}
	if ran < least {
		t.Errorf("%d commands were found, where there are %d or more", ran, least)
	}
}

// commandLines gives the commands of a document's examples, without their remarks.
func commandLines(text string) []string {
	text = strings.ReplaceAll(text, " \\\n      ", " ")
	var out []string
	for _, m := range regexp.MustCompile(`(?m)^    ((?:\./)?cozyshelf(?:-new)? [^#\n]*)`).FindAllStringSubmatch(text,
		-1) {
		out = append(out, strings.TrimSpace(m[1]))
	}
	return out
}

// lastUndoable is the last entry of the ledger that can be taken back.
func lastUndoable(t *testing.T, m *mill) string {
	t.Helper()
	m.must("ledger")
	list, _, err := ledger.Read(m.path("state"))
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range slices.Backward(list) {
		if e.Of == 0 && e.Undo != nil && e.UndoneBy == 0 && e.Outcome == "done" {
			return fmt.Sprint(e.ID)
		}
	}
	t.Fatal("nothing can be taken back")
	return ""
}
