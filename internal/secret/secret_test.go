package secret

import (
	"context"
	"errors"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"cozyshelf/internal/testbuild"
)

func TestPasswordsAreRecognisedAndOthersNot(t *testing.T) {
	h := new(Keys).Hash("sourdough & rye")
	if ok, err := new(Keys).Check(context.Background(), First, h, "sourdough & rye"); !ok || err != nil {
		t.Errorf("the right one: %v, %v", ok, err)
	}
	for _, p := range []string{"", "sourdough & ry", "Sourdough & rye"} {
		if ok, _ := new(Keys).Check(context.Background(), First, h, p); ok {
			t.Errorf("%q was taken", p)
		}
	}
	if new(Keys).Hash("sourdough & rye") == h {
		t.Error("two hashes of one password are the same: there is no salt")
	}
	if ok, err := new(Keys).Check(context.Background(), First, Nobody, ""); ok || err != nil {
		t.Errorf("nobody's: %v, %v", ok, err)
	}
	for _, bad := range []string{"", "plain", "$argon2id$v=19$m=99999999,t=2,p=1$AAAA$AAAA",
		"$argon2i$v=19$m=1,t=1,p=1$AAAA$AAAA", "$argon2id$v=19$m=8,t=1,p=1$AAAA$"} {
		if ok, err := new(Keys).Check(context.Background(), First, bad, "x"); ok || err == nil {
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
	if ok, err := new(Keys).Check(context.Background(), First, strings.TrimSpace(string(out)), "sourdough & rye"); !ok ||
		err != nil {
		t.Errorf("%s: %v, %v", out, ok, err)
	}
}

func TestWeakPasswordsAreRefused(t *testing.T) {
	for p, weak := range map[string]bool{"": true, "short": true, "aaaaaaaaaaaa": true, "linnea-linnea": true,
		"a fine long phrase": false, "пароль для меня": false, strings.Repeat("ab", 300): true, "bad\xffutf8....": true,
		"elevenchars": true, "password1234": true, "Password!!!!!": true, "passwordpassword": true,
		"qwertzuiopqwertzuiop": true, "123456789012": true, "linnea-linnea2026": true,
		"abcdefghijkl": true, "sunshine2026!": true, "mill wheel by night": false, strings.Repeat("é", 12) +
			"a": false, strings.Repeat("x y", 86): true, "tab\tin the middle": true,
		"Zwölf Boxkämpfer": false, "river-otter-candle": false} {
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

// However many names that nobody has are tried, members go first; and nobody waits in a
// line that has no end.
func TestMembersGoFirst(t *testing.T) {
	h := new(Keys).Hash("an honest passphrase")
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	var wg sync.WaitGroup
	var busy atomic.Int64
	for range 1500 {
		wg.Go(func() {
			for ctx.Err() == nil {
				if _, err := new(Keys).Check(ctx, Later, Nobody, "guess"); errors.Is(err, ErrBusy) {
					busy.Add(1)
					time.Sleep(5 * time.Millisecond)
				}
			}
		})
	}
	time.Sleep(200 * time.Millisecond)
	for range 5 {
		began := time.Now()
		if ok, err := new(Keys).Check(ctx, First, h, "an honest passphrase"); !ok || err != nil {
			t.Errorf("%v, %v", ok, err)
		}
		if took := time.Since(began); took > 10*time.Second { // of 1,500 that wait
			t.Errorf("it took %s", took)
		}
	}
	stop()
	wg.Wait()
	if busy.Load() == 0 {
		t.Error("nobody was turned away")
	}
	places.mu.Lock()
	defer places.mu.Unlock()
	if places.busy != 0 || len(places.waiting[First])+len(places.waiting[Later]) != 0 {
		t.Errorf("left: %d busy, %v waiting", places.busy, places.waiting)
	}
}
