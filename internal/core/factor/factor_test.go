package factor

import (
	"crypto/rand"
	"encoding/base32"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"
)

// TestTheCodesOfTheStandard holds the codes against the test values of RFC 6238, appendix B, of which the
// last six digits are taken.
func TestTheCodesOfTheStandard(t *testing.T) {
	secret := base32.StdEncoding.EncodeToString([]byte("12345678901234567890"))
	for at, want := range map[int64]string{59: "287082", 1111111109: "081804", 1111111111: "050471", 1234567890: "005924",
		2000000000: "279037", 20000000000: "353130"} {
		now := time.Unix(at, 0)
		step, ok := Check(secret, want, now, 0)
		if !ok || step != at/30 {
			t.Errorf("at %d: step %d, %v", at, step, ok)
		}
		if _, ok := Check(secret, want, now, step); ok {
			t.Errorf("at %d: it is good twice", at)
		}
		for _, off := range []time.Duration{-30 * time.Second, 30 * time.Second} {
			if _, ok := Check(secret, want, now.Add(off), 0); !ok {
				t.Errorf("at %d, a clock that is wrong by %s", at, off)
			}
		}
		for _, off := range []time.Duration{-61 * time.Second, 61 * time.Second} {
			if _, ok := Check(secret, want, now.Add(off), 0); ok && at > 61 {
				t.Errorf("at %d, a clock that is wrong by %s", at, off)
			}
		}
	}
	for _, code := range []string{"", "28708", "2870822", "abcdef", "287083", "\x00\x00\x00\x00\x00\x00"} {
		if _, ok := Check(secret, code, time.Unix(59, 0), 0); ok {
			t.Errorf("%q is taken", code)
		}
	}
	if _, ok := Check(secret, " 287 082 ", time.Unix(59, 0), 0); !ok {
		t.Error("spaces are not passed over")
	}
}

// TestAnAddressIsReadByOthers has the package that authenticators are made with read it.
func TestNoSecretHasNoCode(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	code, err := totp.GenerateCodeCustom("", now, totp.ValidateOpts{Period: 30, Digits: otp.DigitsSix})
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := Check("", code, now, 0); ok {
		t.Error("a code of no secret was taken")
	}
}

func TestAnAddressIsReadByOthers(t *testing.T) {
	secret, err := NewSecret(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	k, err := otp.NewKeyFromURL(Address(secret, "Fernhollow Mill: ours", "wren & co"))
	if err != nil || k.Secret() != secret || k.Issuer() != "Fernhollow Mill  ours" || k.AccountName() != "wren & co" ||
		k.Type() != "totp" || k.Period() != 30 {
		t.Errorf("%v, %v", k, err)
	}
}

func TestRecoveryCodes(t *testing.T) {
	seen := map[string]bool{}
	for range 20 {
		for _, c := range NewRecoveries() {
			r := Recovery(" " + strings.ToUpper(c) + " ")
			if r == "" || r != Recovery(strings.ReplaceAll(c, "-", " ")) || seen[r] {
				t.Fatalf("%q reads as %q", c, r)
			}
			seen[r] = true
		}
	}
	for _, c := range []string{"", "aaaa", strings.Repeat("a", 15), strings.Repeat("1", 16), strings.Repeat("a", 200)} {
		if Recovery(c) != "" {
			t.Errorf("%q is taken", c)
		}
	}
}

func FuzzRecovery(f *testing.F) {
	f.Add("aaaa-bbbb-cccc-dddd")
	f.Fuzz(func(t *testing.T, s string) {
		if r := Recovery(s); r != "" && Recovery(r) != r {
			t.Errorf("%q reads as %q", s, r)
		}
	})
}
