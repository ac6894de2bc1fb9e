package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/layout"
)

// ErrNoKey says that something was made with a key that is not there.
var ErrNoKey = errors.New("it was made with a key that is not there")

// Keys go into every hash of a password, beside its salt, and seal secrets that have to be read
// again. They lie in files of their own beside the store: whoever has come by the store alone can
// neither try passwords on it nor make codes. The zero value, and nil, has none.
type Keys struct {
	first string // the id of the one for what is new; empty for none
	all   map[string][]byte
}

// Sizes and bounds of keys.
const (
	keySize  = 32
	mostKeys = 16
)

// KeyID names a key by what it is.
func KeyID(key []byte) string {
	sum := sha256.Sum256(append([]byte("id of a key\x00"), key...))
	return hex.EncodeToString(sum[:8])
}

// OpenKeys reads the keys in a state folder, and makes the first one. Where that is not possible it
// gives those that there are, and why.
func OpenKeys(state string) (*Keys, error) {
	k := &Keys{all: map[string][]byte{}}
	d, err := boundary.Open(state)
	if err != nil {
		return k, err
	}
	defer d.Close()
	names, err := d.Names()
	if err != nil {
		return k, err
	}
	slices.Sort(names)
	for _, name := range names {
		id := layout.KeyID(name)
		if id == "" || len(k.all) >= mostKeys {
			continue
		}
		b, rerr := d.Read(name, keySize, nil)
		if rerr != nil || len(b) != keySize || KeyID(b) != id {
			err = errors.Join(err, fmt.Errorf("%s is not the key that its name says: %w", filepath.Join(state, name),
				errors.Join(rerr, ErrNoKey)))
			continue
		}
		k.all[id] = b
		if k.first == "" {
			k.first = id
		}
	}
	if k.first != "" {
		return k, err
	}
	b := make([]byte, keySize)
	rand.Read(b) // never fails, see crypto/rand
	id := KeyID(b)
	if werr := atomicfile.Replace(filepath.Join(state, layout.SealOf(id)), b, 0o600, nil); werr != nil {
		return k, errors.Join(err, werr)
	}
	k.first, k.all[id] = id, b
	return k, err
}

// key gives a key by its id; of an empty one there is none, and none is needed.
func (k *Keys) key(id string) ([]byte, error) {
	if id == "" {
		return nil, nil
	}
	if k != nil && k.all[id] != nil {
		return k.all[id], nil
	}
	return nil, ErrNoKey
}

// newest is the id of the key for what is new.
func (k *Keys) newest() string {
	if k == nil {
		return ""
	}
	return k.first
}

// mixed is what is hashed of a password: with a key its code (HMAC-SHA-256) in base64.
func mixed(key []byte, password string) string {
	if key == nil {
		return password
	}
	h := hmac.New(sha256.New, key)
	h.Write([]byte("password\x00" + password))
	return base64.RawStdEncoding.EncodeToString(h.Sum(nil))
}

// sealed begins what Seal gives; its key's id and the text follow.
const sealed = "sealed:"

// IsSealed reports whether a text is one that Seal gave, with a key.
func IsSealed(text string) bool { return strings.HasPrefix(text, sealed) }

// Seal gives a text that only a holder of the key can read, for one purpose. Without keys it is the
// text itself.
func (k *Keys) Seal(purpose, text string) (string, error) {
	id := k.newest()
	key, err := k.key(id)
	if err != nil || key == nil {
		return text, err
	}
	c, err := cipherOf(key)
	if err != nil {
		return "", err
	}
	nonce := make([]byte, c.NonceSize())
	rand.Read(nonce)
	return sealed + id + ":" + base64.RawStdEncoding.EncodeToString(c.Seal(nonce, nonce, []byte(text),
		[]byte(purpose))), nil
}

// Unseal gives the text of which Seal made another one, for the same purpose. One that was never
// sealed is given as it is.
func (k *Keys) Unseal(purpose, text string) (string, error) {
	rest, ok := strings.CutPrefix(text, sealed)
	if !ok {
		return text, nil
	}
	id, body, _ := strings.Cut(rest, ":")
	key, err := k.key(id)
	if err == nil && key == nil {
		err = ErrNoKey
	}
	if err != nil {
		return "", err
	}
	c, err := cipherOf(key)
	if err != nil {
		return "", err
	}
	b, err := base64.RawStdEncoding.DecodeString(body)
	if err != nil || len(b) < c.NonceSize() {
		return "", errors.New("what is sealed has been damaged")
	}
	out, err := c.Open(nil, b[:c.NonceSize()], b[c.NonceSize():], []byte(purpose))
	return string(out), err
}

func cipherOf(key []byte) (cipher.AEAD, error) {
	b, err := hkdf.Key(sha256.New, key, nil, "sealing", keySize)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(b)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}
