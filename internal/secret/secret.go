// Package secret makes and checks passwords and tokens. Passwords are kept as
// argon2id (RFC 9106) in the usual PHC string form, of a password that a key was
// mixed in; tokens are random and kept only as a hash, by package store.
package secret

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// What one hash costs: 19 MiB and two passes, which bears several sign-ins at
// once on a small server.
const (
	memory  = 19 << 10 // KiB
	passes  = 2
	threads = 1
	keyLen  = 32
)

// Limits of a password, in characters.
const (
	LeastPassword = 12
	MostPassword  = 256
)

// mostBytes is how long a password may be in UTF-8: four for each character.
const mostBytes = 4 * MostPassword

// Judge says why a password cannot be taken, or nothing.
func Judge(password, member string) string {
	switch {
	case !utf8.ValidString(password):
		return "it is not valid UTF-8"
	case utf8.RuneCountInString(password) < LeastPassword:
		return fmt.Sprintf("it has fewer than %d characters", LeastPassword)
	case utf8.RuneCountInString(password) > MostPassword:
		return fmt.Sprintf("it has more than %d characters", MostPassword)
	case strings.ContainsFunc(password, unicode.IsControl):
		return "it holds a character that cannot be typed"
	case strings.EqualFold(password, member):
		return "it is the member's name"
	case common(password, member):
		return "it is one of the first that somebody would guess"
	}
	return ""
}

// Hash makes the string that is kept of a password.
func (k *Keys) Hash(password string) string {
	id := k.newest()
	secret, err := k.key(id)
	if err != nil {
		id = "" // which cannot be: it is one of those that are there
	}
	salt := make([]byte, 16)
	rand.Read(salt) // never fails, see crypto/rand
	places.wait(context.Background(), First, true)
	defer places.leave(time.Time{})
	key := derive(mixed(secret, password), salt, passes, memory, threads, keyLen)
	b := base64.RawStdEncoding
	if id != "" {
		id = ",keyid=" + id
	}
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d%s$%s$%s", argon2.Version, memory, passes, threads, id,
		b.EncodeToString(salt), b.EncodeToString(key))
}

// Current reports whether a hash is made as Hash makes it now.
func (k *Keys) Current(hash string) bool {
	_, id, _ := strings.Cut(hash, ",keyid=")
	id, _, _ = strings.Cut(id, "$")
	return id == k.newest()
}

func derive(password string, salt []byte, t, m uint32, p uint8, n uint32) []byte {
	return argon2.IDKey([]byte(password), salt, t, m, p, n)
}

// Check reports whether a password is the one that was hashed. A hash of an
// unknown form is an error; ErrNoKey says that its key is not there, ErrBusy that so
// many wait that nothing was tried.
func (k *Keys) Check(ctx context.Context, line Line, hash, password string) (bool, error) {
	if len(password) > mostBytes {
		password = password[:mostBytes+1] // that fits none, and takes as long
	}
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[0] != "" || parts[1] != "argon2id" {
		return false, errors.New("a password is kept in a form that is not known")
	}
	var v int
	var m, t uint32
	var p uint8
	costs, id, _ := strings.Cut(parts[3], ",keyid=")
	if _, err := fmt.Sscanf(parts[2]+" "+costs, "v=%d m=%d,t=%d,p=%d", &v, &m, &t, &p); err != nil ||
		v != argon2.Version || m > 1<<20 || t == 0 || t > 100 || p == 0 {
		return false, errors.New("a password is kept with settings that are not known")
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false, err
	}
	key, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil || len(key) == 0 {
		return false, errors.New("a password is kept without its key")
	}
	mix, err := k.key(id)
	if err != nil {
		return false, err
	}
	if err := places.wait(ctx, line, false); err != nil {
		return false, err
	}
	var began time.Time
	if line == Later {
		began = time.Now()
	}
	defer places.leave(began)
	return subtle.ConstantTimeCompare(key, derive(mixed(mix, password), salt, t, m, p, uint32(len(key)))) == 1, nil
}

// Nobody is a hash that no password fits, to spend the same time on members
// that do not exist.
var Nobody = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

// Token makes a token of 256 random bits.
func Token() string {
	b := make([]byte, 32)
	rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// Passphrase makes a passphrase that can be said over the telephone: four
// groups of three syllables, 72 random bits. It is the easy way to a good one.
func Passphrase() string {
	b := make([]byte, 12)
	rand.Read(b)
	var s strings.Builder
	for i, c := range b {
		if i > 0 && i%3 == 0 {
			s.WriteByte('-')
		}
		s.WriteByte("bdfghjklmnprstvz"[c&15])
		s.WriteByte("aeiu"[c>>4&3])
	}
	return s.String()
}
