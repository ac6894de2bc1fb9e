package internal

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
)

// TestPromisesNameTestsThatAreThere holds the documents about security to the code: each
// test that they name exists.
func TestPromisesNameTestsThatAreThere(t *testing.T) {
	out, err := exec.Command("grep", "-rhoE", "--include=*_test.go", "^func (Test|Fuzz)[A-Za-z0-9]+", "..").Output()
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for line := range strings.Lines(string(out)) {
		there[strings.TrimPrefix(strings.TrimSpace(line), "func ")] = true
	}
	named := 0
	for _, file := range []string{"../SECURITY.md", "../docs/security.md"} {
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range regexp.MustCompile("`((?:Test|Fuzz)[A-Za-z0-9]+)`").FindAllStringSubmatch(string(b), -1) {
			named++
			if !there[name[1]] {
				t.Errorf("%s names %s, which there is not", file, name[1])
			}
		}
	}
	if named < 40 {
		t.Errorf("only %d tests are named", named)
	}
}
