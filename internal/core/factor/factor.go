// Package factor makes and checks second factors: one-time codes by time (TOTP, RFC 6238: SHA-1, six
// digits, thirty seconds, as every authenticator has them), and recovery codes for who has lost theirs.
package factor

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base32"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"
)

const (
	period     = 30 // seconds
	skew       = 1  // periods that a clock may be wrong by
	secretSize = 20 // bytes, as RFC 4226 recommends
	digits     = otp.DigitsSix

	// Recoveries is how many recovery codes there are.
	Recoveries = 10
)

var plain = base32.StdEncoding.WithPadding(base32.NoPadding)

// NewSecret makes a secret, in base32 as authenticators take it.
func NewSecret(random io.Reader) (string, error) {
	b := make([]byte, secretSize)
	if _, err := io.ReadFull(random, b); err != nil {
		return "", err
	}
	return plain.EncodeToString(b), nil
}

// Address is what a QR code for authenticators holds.
func Address(secret, household, member string) string {
	// Colons part the two, so that there can be none in them.
	household, member = strings.ReplaceAll(household, ":", " "), strings.ReplaceAll(member, ":", " ")
	q := url.Values{"secret": {secret}, "issuer": {household}}
	return "otpauth://totp/" + url.PathEscape(household+":"+member) + "?" + strings.ReplaceAll(q.Encode(), "+", "%20")
}

// Check finds the period that a code belongs to, around a moment. One that is not after used is none: each
// code is good once.
func Check(secret, code string, now time.Time, used int64) (step int64, ok bool) {
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	if len(code) != digits.Length() || secret == "" { // of no secret, too, there would be a code
		return 0, false
	}
	at := now.Unix() / period
	for s := at - skew; s <= at+skew; s++ {
		want, err := hotp.GenerateCodeCustom(secret, uint64(max(0, s)), hotp.ValidateOpts{Digits: digits,
			Algorithm: otp.AlgorithmSHA1})
		if err != nil {
			return 0, false
		}
		if subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 && s > used {
			step, ok = s, true
		}
	}
	return step, ok
}

// NewRecoveries makes recovery codes of 80 random bits each.
func NewRecoveries() (out []string) {
	for range Recoveries {
		b := make([]byte, 10)
		_, _ = rand.Read(b) // it never fails
		s := strings.ToLower(plain.EncodeToString(b))
		out = append(out, fmt.Sprintf("%s-%s-%s-%s", s[:4], s[4:8], s[8:12], s[12:]))
	}
	return out
}

// Recovery reads a recovery code as people type it; empty for what is none.
func Recovery(text string) string {
	if len(text) > 100 {
		return ""
	}
	s := strings.ToLower(strings.NewReplacer("-", "", " ", "").Replace(strings.TrimSpace(text)))
	if b, err := plain.DecodeString(strings.ToUpper(s)); err != nil || len(b) != 10 {
		return ""
	}
	return s
}
