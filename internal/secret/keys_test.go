package secret

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/testbuild"
)

// keysIn opens the keys of a folder that are sound.
func keysIn(t testing.TB, dir string) *Keys {
	t.Helper()
	k, err := OpenKeys(dir)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func TestHashesAreGoodWithTheirKeyOnly(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	k := keysIn(t, dir)
	again := keysIn(t, dir)
	h := k.Hash("sourdough & rye")
	if ok, err := again.Check(ctx, First, h, "sourdough & rye"); !ok || err != nil {
		t.Errorf("the same key, opened once more: %v, %v", ok, err)
	}
	if ok, _ := again.Check(ctx, First, h, "sourdough & ry"); ok {
		t.Error("another password was taken")
	}
	other := keysIn(t, t.TempDir())
	if ok, err := other.Check(ctx, First, h, "sourdough & rye"); ok || !errors.Is(err, ErrNoKey) {
		t.Errorf("with another key: %v, %v", ok, err)
	}
	// Whoever says that no key was used, or names the other one, gets nowhere either.
	id := KeyID(k.all[k.first])
	for _, forged := range []string{strings.Replace(h, ",keyid="+id, "", 1),
		strings.Replace(h, id, other.first, 1)} {
		if ok, _ := other.Check(ctx, First, forged, "sourdough & rye"); ok {
			t.Errorf("%s was taken", forged)
		}
	}
	old := new(Keys).Hash("sourdough & rye")
	if ok, err := k.Check(ctx, First, old, "sourdough & rye"); !ok || err != nil || k.Current(old) || !k.Current(h) {
		t.Errorf("one without a key: %v, %v", ok, err)
	}
}

// TestKeyedHashesAgreeWithAnotherImplementation asks the reference program for the hash of what is mixed.
func TestKeyedHashesAgreeWithAnotherImplementation(t *testing.T) {
	if _, err := exec.LookPath("argon2"); err != nil {
		testbuild.Missing(t, "argon2")
	}
	k := keysIn(t, t.TempDir())
	cmd := exec.Command("argon2", "somesalt", "-id", "-t", "2", "-k", "19456", "-p", "1", "-l", "32", "-e")
	// The code of RFC 2104, by openssl.
	mac := exec.Command("openssl", "dgst", "-sha256", "-mac", "HMAC", "-macopt", fmt.Sprintf("hexkey:%x",
		k.all[k.first]), "-binary")
	mac.Stdin = strings.NewReader("password\x00sourdough & rye")
	code, err := mac.Output()
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stdin = strings.NewReader(base64.RawStdEncoding.EncodeToString(code))
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	h := strings.Replace(strings.TrimSpace(string(out)), "p=1$", "p=1,keyid="+k.first+"$", 1)
	if ok, err := k.Check(context.Background(), First, h, "sourdough & rye"); !ok || err != nil {
		t.Errorf("%s: %v, %v", h, ok, err)
	}
}

func TestSealedTextsAreForOnePurpose(t *testing.T) {
	k := keysIn(t, t.TempDir())
	shut, err := k.Seal("codes of 1", "JBSWY3DP")
	if err != nil || !IsSealed(shut) || strings.Contains(shut, "JBSWY3DP") {
		t.Fatalf("%s, %v", shut, err)
	}
	if got, err := k.Unseal("codes of 1", shut); got != "JBSWY3DP" || err != nil {
		t.Errorf("%s, %v", got, err)
	}
	if got, err := k.Unseal("codes of 1", "JBSWY3DP"); got != "JBSWY3DP" || err != nil {
		t.Errorf("one that was never sealed: %s, %v", got, err)
	}
	last := len(shut) - 1
	for what, text := range map[string]string{"": shut, "codes of 2": shut, "codes of 1": shut[:last-2] + "AAA",
		"codes of 1 ": "sealed:", "codes of 1  ": "sealed:" + k.first + ":AAAA", "codes of 3": "sealed::AAAA"} {
		if got, err := k.Unseal(strings.TrimSpace(what), text); err == nil {
			t.Errorf("%q, %s: got %q", what, text, got)
		}
	}
	if _, err := keysIn(t, t.TempDir()).Unseal("codes of 1", shut); !errors.Is(err, ErrNoKey) {
		t.Errorf("with another key: %v", err)
	}
	if open, err := new(Keys).Seal("codes of 1", "JBSWY3DP"); open != "JBSWY3DP" || err != nil {
		t.Errorf("without a key: %s, %v", open, err)
	}
}

func TestADamagedKeyIsSaidAndNotUsed(t *testing.T) {
	dir := t.TempDir()
	k := keysIn(t, dir)
	file := filepath.Join(dir, layout.SealOf(k.first))
	st, err := os.Stat(file)
	if err != nil || st.Mode().Perm() != 0o600 || st.Size() != keySize {
		t.Fatalf("%v, %v", st, err)
	}
	h := k.Hash("sourdough & rye")
	for what, spoil := range map[string]func() error{
		"cut short": func() error { return os.Truncate(file, 5) },
		"another":   func() error { return os.WriteFile(file, make([]byte, keySize), 0o600) },
		"a link":    func() error { return errors.Join(os.Remove(file), os.Symlink("/dev/zero", file)) },
		"a folder":  func() error { return errors.Join(os.Remove(file), os.Mkdir(file, 0o700)) },
		"far too big": func() error {
			return errors.Join(os.RemoveAll(file), os.WriteFile(file, make([]byte, 1<<20),
				0o600))
		},
	} {
		if err := errors.Join(os.WriteFile(file, k.all[k.first], 0o600), spoil()); err != nil {
			t.Fatal(err)
		}
		got, err := OpenKeys(dir)
		if !errors.Is(err, ErrNoKey) || got.first == k.first || got.first == "" {
			t.Errorf("%s: %v, %v", what, got, err)
		}
		if ok, err := got.Check(context.Background(), First, h, "sourdough & rye"); ok || !errors.Is(err, ErrNoKey) {
			t.Errorf("%s: %v, %v", what, ok, err)
		}
		if err := os.RemoveAll(file); err != nil {
			t.Fatal(err)
		}
	}
	// Who cannot keep one works without.
	got, err := OpenKeys(filepath.Join(dir, "nowhere"))
	if err == nil || got.first != "" {
		t.Errorf("%v, %v", got, err)
	}
	if ok, err := got.Check(context.Background(), First, got.Hash("sourdough & rye"), "sourdough & rye"); !ok {
		t.Error(ok, err)
	}
}

// FuzzKept gives what a store may hold to what reads it: it is a password or a text that was sealed, or an error.
func FuzzKept(f *testing.F) {
	k := keysIn(f, f.TempDir())
	shut, err := k.Seal("codes", "JBSWY3DP")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(shut)
	f.Add(k.Hash("sourdough & rye"))
	f.Add("$argon2id$v=19$m=8,t=1,p=1,keyid=$c29tZXNhbHQ$AAAA")
	f.Add("sealed:" + k.first + ":")
	f.Fuzz(func(t *testing.T, kept string) {
		if got, err := k.Unseal("codes", kept); err == nil && IsSealed(kept) && got != "JBSWY3DP" {
			t.Errorf("%q was unsealed as %q", kept, got)
		}
		if strings.HasPrefix(kept, "$argon2id$v=19$m=") && !strings.HasPrefix(kept, "$argon2id$v=19$m=8,t=1,") {
			return // which takes its time
		}
		if ok, err := k.Check(context.Background(), First, kept, "millpond"); ok || err == nil && !strings.HasPrefix(kept,
			"$argon2id$") {
			t.Errorf("%q: %v, %v", kept, ok, err)
		}
	})
}
