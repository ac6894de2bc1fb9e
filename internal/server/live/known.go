package live

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"net/http"
	"os"
	"strings"
	"sync"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/core/layout"
)

// known recognises browsers on which a member has signed in before, by a cookie that only
// this server can have made. It opens nothing: it only lets a member's own browser be
// counted by itself, so that strangers who try the member's name keep nobody out.
type known struct {
	once sync.Once
	key  []byte
	file string
}

// keyFile is the key's name in the state folder.
const keyFile = layout.Key

const knownCookie = "shelf_known"

// secretKey gives the key, making it once. A key that cannot be kept holds until the server
// ends.
func (k *known) secretKey() []byte {
	k.once.Do(func() {
		if b, err := os.ReadFile(k.file); err == nil && len(b) == 32 {
			k.key = b
			return
		}
		k.key = make([]byte, 32)
		rand.Read(k.key)                                  // never fails, see crypto/rand
		_ = atomicfile.Replace(k.file, k.key, 0o600, nil) // browsers are new again after the next start
	})
	return k.key
}

func (k *known) mac(member int64, id string) string {
	h := hmac.New(sha256.New, k.secretKey())
	fmt.Fprintf(h, "%d %s", member, id)
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil))
}

// Sign gives a text with a seal that only this server can make, for one purpose. It goes into an
// address.
func (k *known) Sign(purpose, text string) string {
	return base64.RawURLEncoding.EncodeToString([]byte(text)) + "." + k.mac(0, purpose+" "+text)
}

// Signed gives the text of one that Sign made for the same purpose.
func (k *known) Signed(purpose, sealed string) (text string, ok bool) {
	encoded, mac, _ := strings.Cut(sealed, ".")
	b, err := base64.RawURLEncoding.DecodeString(encoded)
	if err != nil || len(sealed) > 2000 {
		return "", false
	}
	return string(b), hmac.Equal([]byte(mac), []byte(k.mac(0, purpose+" "+string(b))))
}

// device gives the number of the browser of a request, if the member has signed in on it
// before, else 0.
func (k *known) device(r *http.Request, member int64) int64 {
	c, err := r.Cookie(knownCookie)
	if err != nil || member == 0 || len(c.Value) > 200 {
		return 0
	}
	id, mac, _ := strings.Cut(c.Value, ".")
	if !hmac.Equal([]byte(mac), []byte(k.mac(member, id))) {
		return 0
	}
	sum := sha256.Sum256([]byte(id))
	return int64(binary.LittleEndian.Uint64(sum[:])>>1) | 1
}

// Remember marks a browser as the member's own.
func (k *known) Remember(w http.ResponseWriter, member int64, secure bool) {
	id := rand.Text()
	http.SetCookie(w, &http.Cookie{Name: knownCookie, Value: id + "." + k.mac(member, id), Path: "/sign-in",
		MaxAge: 365 * 86400, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: secure})
}
