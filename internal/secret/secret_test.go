package secret

import (
	"os/exec"
	"strings"
	"testing"

	"cozyshelf/internal/testbuild"
)

func TestPasswordsAreRecognisedAndOthersNot(t *testing.T) {
	h := Hash("sourdough & rye")
	if ok, err := Check(h, "sourdough & rye"); !ok || err != nil {
		t.Errorf("the right one: %v, %v", ok, err)
	}
	for _, p := range []string{"", "sourdough & ry", "Sourdough & rye"} {
		if ok, _ := Check(h, p); ok {
			t.Errorf("%q was taken", p)
		}
	}
	if Hash("sourdough & rye") == h {
		t.Error("two hashes of one password are the same: there is no salt")
	}
	if ok, err := Check(Nobody, ""); ok || err != nil {
		t.Errorf("nobody's: %v, %v", ok, err)
	}
	for _, bad := range []string{"", "plain", "$argon2id$v=19$m=99999999,t=2,p=1$AAAA$AAAA", "$argon2i$v=19$m=1,t=1,p=1$AAAA$AAAA", "$argon2id$v=19$m=8,t=1,p=1$AAAA$"} {
		if ok, err := Check(bad, "x"); ok || err == nil {
			t.Errorf("%q: %v, %v", bad, ok, err)
		}
	}
}

// TestHashesAgreeWithAnotherImplementation asks the reference program.
func TestHashesAgreeWithAnotherImplementation(t *testing.T) {
	if _, err := exec.LookPath("argon2"); err != nil {
		testbuild.Missing(t, "argon2")
	}
	cmd := exec.Command("argon2", "somesalt", "-id", "-t", "2", "-k", "19456", "-p", "1", "-l", "32", "-e")
	cmd.Stdin = strings.NewReader("sourdough & rye")
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	if ok, err := Check(strings.TrimSpace(string(out)), "sourdough & rye"); !ok || err != nil {
		t.Errorf("%s: %v, %v", out, ok, err)
	}
}

func TestWeakPasswordsAreRefused(t *testing.T) {
	for p, weak := range map[string]bool{"": true, "short": true, "aaaaaaaaaaaa": true, "linnea-linnea": true, "a fine long phrase": false, "пароль для меня": false, strings.Repeat("ab", 300): true, "bad\xffutf8....": true} {
		if got := Judge(p, "Linnea-linnea"); (got != "") != weak {
			t.Errorf("%q: got %q", p, got)
		}
	}
}

func TestPassphrasesAreAllDifferent(t *testing.T) {
	seen := map[string]bool{}
	for range 500 {
		p := Passphrase()
		if seen[p] || len(p) != 27 || strings.Count(p, "-") != 3 || Judge(p, "") != "" {
			t.Fatalf("got %q", p)
		}
		seen[p] = true
	}
}
