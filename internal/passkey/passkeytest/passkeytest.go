// Package passkeytest is an authenticator for tests: it makes a passkey and uses it as the standard says, or
// wrongly where a test asks for that. It speaks the standard's formats by itself, so that what it gives is judged
// by another's code.
package passkeytest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"

	"github.com/fxamacker/cbor/v2"
)

// Authenticator holds one passkey. What it is to do wrongly is set before it is used.
type Authenticator struct {
	ID     []byte
	Handle []byte
	Count  uint32 // how often it was used; 0 for one that does not count

	Unverified bool   // its owner does not prove who they are
	Absent     bool   // nobody touches it
	Origin     string // another page's than that which asks
	For        string // another name than that which is asked for
	Forged     bool   // it signs with another key

	key *ecdsa.PrivateKey
}

type options struct {
	PublicKey struct {
		Challenge string
		RPID      string `json:"rpId"`
		RP        struct{ ID string }
		User      struct{ ID string }
	} `json:"publicKey"`
}

func text(b []byte) string { return base64.RawURLEncoding.EncodeToString(b) }

// read reads what the server asks of it, on a page of an origin.
func (a *Authenticator) read(asked []byte, kind, origin string) (o options, client []byte, rp string, err error) {
	if err := json.Unmarshal(asked, &o); err != nil {
		return o, nil, "", err
	}
	if a.Origin != "" {
		origin = a.Origin
	}
	rp = o.PublicKey.RPID + o.PublicKey.RP.ID
	if a.For != "" {
		rp = a.For
	}
	client, err = json.Marshal(map[string]any{"type": kind, "challenge": o.PublicKey.Challenge, "origin": origin,
		"crossOrigin": false})
	return o, client, rp, err
}

// data is what an authenticator says of itself.
func (a *Authenticator) data(rp string, more byte) []byte {
	hash := sha256.Sum256([]byte(rp))
	flags := more
	if !a.Absent {
		flags |= 1
	}
	if !a.Unverified {
		flags |= 4
	}
	return binary.BigEndian.AppendUint32(append(hash[:], flags), a.Count)
}

// Make makes a passkey, as it was asked to on a page of an origin, and gives the answer.
func (a *Authenticator) Make(asked []byte, origin string) ([]byte, error) {
	o, client, rp, err := a.read(asked, "webauthn.create", origin)
	if err != nil {
		return nil, err
	}
	if a.Handle, err = base64.RawURLEncoding.DecodeString(o.PublicKey.User.ID); err != nil {
		return nil, err
	}
	if a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, err
	}
	if a.ID == nil {
		a.ID = make([]byte, 32)
		rand.Read(a.ID) // never fails, see crypto/rand
	}
	point, err := a.key.PublicKey.Bytes()
	if err != nil {
		return nil, err
	}
	key, err := cbor.Marshal(map[int]any{1: 2, 3: -7, -1: 1, -2: point[1:33], -3: point[33:]})
	if err != nil {
		return nil, err
	}
	data := append(a.data(rp, 0x40), make([]byte, 16)...) // of no known make
	data = append(binary.BigEndian.AppendUint16(data, uint16(len(a.ID))), a.ID...)
	object, err := cbor.Marshal(map[string]any{"fmt": "none", "attStmt": map[string]any{},
		"authData": append(data, key...)})
	if err != nil {
		return nil, err
	}
	return a.answer(map[string]string{"clientDataJSON": text(client), "attestationObject": text(object)})
}

// Use uses the passkey, as it was asked to on a page of an origin, and gives the answer.
func (a *Authenticator) Use(asked []byte, origin string) ([]byte, error) {
	_, client, rp, err := a.read(asked, "webauthn.get", origin)
	if err != nil {
		return nil, err
	}
	key := a.key
	if a.Forged {
		if key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
			return nil, err
		}
	}
	data := a.data(rp, 0)
	hash := sha256.Sum256(client)
	sum := sha256.Sum256(append(append([]byte{}, data...), hash[:]...))
	signature, err := ecdsa.SignASN1(rand.Reader, key, sum[:])
	if err != nil {
		return nil, err
	}
	return a.answer(map[string]string{"clientDataJSON": text(client), "authenticatorData": text(data),
		"signature": text(signature), "userHandle": text(a.Handle)})
}

func (a *Authenticator) answer(response map[string]string) ([]byte, error) {
	return json.Marshal(map[string]any{"id": text(a.ID), "rawId": text(a.ID), "type": "public-key", "response": response,
		"clientExtensionResults": map[string]any{}})
}
