// Package passkey makes and checks passkeys (Web Authentication, Level 3): keys that an authenticator holds, by
// which a member signs in without a password. A passkey is good for one name of the server only, and for
// whoever proves to the authenticator, by finger or PIN, that they are its owner.
package passkey

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
)

// Time is how long somebody may take over a passkey.
const Time = 5 * time.Minute

// Place is where a browser has reached the server: passkeys that are made there are good there.
type Place struct{ Name, Origin string }

// PlaceOf gives the place of a request by its host, and whether passkeys can be had there: browsers want a
// name, and HTTPS but for the machine itself.
func PlaceOf(host string, secure bool) (Place, bool) {
	host = strings.ToLower(host)
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	if _, err := netip.ParseAddr(strings.Trim(name, "[]")); err == nil || name == "" || strings.HasSuffix(name, ".") {
		return Place{}, false
	}
	if secure {
		return Place{name, "https://" + host}, true
	}
	return Place{name, "http://" + host}, name == "localhost"
}

// Person is who a passkey is for.
type Person struct {
	Handle  []byte // by which authenticators know them
	Name    string
	Records [][]byte // of the passkeys that they have
}

// Made is a passkey that was just made.
type Made struct {
	Handle     []byte // of the person that it is for
	Credential []byte // by which its authenticator names it
	Record     []byte // what is to be kept of it
}

// Used is a passkey that was used: its record has changed.
type Used struct{ Record []byte }

// ErrCopied says that the passkey of an authenticator that gives none away was used elsewhere, too.
var ErrCopied = errors.New("somebody has a copy of this passkey")

// New gives what a browser needs to make a passkey, and what Keep wants to know of that, which the browser
// must not be able to change.
func (p Place) New(household string, who Person) (options, session []byte, err error) {
	w, err := p.party(household)
	if err != nil {
		return nil, nil, err
	}
	u, err := userOf(who)
	if err != nil {
		return nil, nil, err
	}
	made, s, err := w.BeginRegistration(u, webauthn.WithExclusions(webauthn.Credentials(u.keys).CredentialDescriptors()))
	if err != nil {
		return nil, nil, err
	}
	return both(made, s)
}

// Keep judges the passkey that a browser has made.
func (p Place) Keep(session, answer []byte) (Made, error) {
	var s webauthn.SessionData
	if err := json.Unmarshal(session, &s); err != nil {
		return Made{}, err
	}
	w, err := p.party("")
	if err != nil {
		return Made{}, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return Made{}, plainly(err)
	}
	c, err := w.CreateCredential(user{person: Person{Handle: s.UserID}}, s, parsed)
	if err != nil {
		return Made{}, plainly(err)
	}
	record, err := recordOf(c)
	return Made{s.UserID, c.ID, record}, err
}

// Ask gives what a browser needs to have a passkey used, whoever's it is, and what Check wants to know of that.
func (p Place) Ask() (options, session []byte, err error) {
	w, err := p.party("")
	if err != nil {
		return nil, nil, err
	}
	asked, s, err := w.BeginDiscoverableLogin()
	if err != nil {
		return nil, nil, err
	}
	return both(asked, s)
}

// Check judges the use of a passkey. It asks whose it is by what its authenticator calls it.
func (p Place) Check(session, answer []byte, whose func(credential []byte) (Person, error)) (Used, error) {
	var s webauthn.SessionData
	if err := json.Unmarshal(session, &s); err != nil {
		return Used{}, err
	}
	w, err := p.party("")
	if err != nil {
		return Used{}, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return Used{}, plainly(err)
	}
	c, err := w.ValidateDiscoverableLogin(func(id, _ []byte) (webauthn.User, error) {
		who, err := whose(id)
		if err != nil {
			return nil, err
		}
		return userOf(who)
	}, s, parsed)
	switch {
	case err != nil:
		return Used{}, plainly(err)
	case c.Authenticator.CloneWarning:
		return Used{}, ErrCopied
	}
	record, err := recordOf(c)
	return Used{record}, err
}

// party is this server as authenticators see it.
func (p Place) party(household string) (*webauthn.WebAuthn, error) {
	if household == "" {
		household = p.Name // it is not shown
	}
	yes, lasts := true, webauthn.TimeoutConfig{Enforce: true, Timeout: Time, TimeoutUVD: Time}
	return webauthn.New(&webauthn.Config{RPID: p.Name, RPDisplayName: household, RPOrigins: []string{p.Origin},
		AttestationPreference: protocol.PreferNoAttestation,
		AuthenticatorSelection: protocol.AuthenticatorSelection{RequireResidentKey: &yes,
			ResidentKey: protocol.ResidentKeyRequirementRequired, UserVerification: protocol.VerificationRequired},
		Timeouts: webauthn.TimeoutsConfig{Login: lasts, Registration: lasts}})
}

// user is a person as the standard's package sees them.
type user struct {
	person Person
	keys   []webauthn.Credential
}

func userOf(p Person) (user, error) {
	u := user{person: p}
	for _, record := range p.Records {
		var c webauthn.Credential
		if err := json.Unmarshal(record, &c); err != nil {
			return u, fmt.Errorf("a passkey's record cannot be read: %w", err)
		}
		u.keys = append(u.keys, c)
	}
	return u, nil
}

func (u user) WebAuthnID() []byte                         { return u.person.Handle }
func (u user) WebAuthnName() string                       { return u.person.Name }
func (u user) WebAuthnDisplayName() string                { return u.person.Name }
func (u user) WebAuthnCredentials() []webauthn.Credential { return u.keys }

// recordOf gives what is kept of a passkey: who made the authenticator is not.
func recordOf(c *webauthn.Credential) ([]byte, error) {
	kept := *c
	kept.Attestation = webauthn.CredentialAttestation{}
	return json.Marshal(kept)
}

func both(options, session any) ([]byte, []byte, error) {
	o, err := json.Marshal(options)
	if err != nil {
		return nil, nil, err
	}
	s, err := json.Marshal(session)
	return o, s, err
}

// plainly gives what an error of the standard's package says, with its particulars.
func plainly(err error) error {
	var e *protocol.Error
	if errors.As(err, &e) && e.DevInfo != "" {
		return fmt.Errorf("%s: %s: %w", e.Details, e.DevInfo, err)
	}
	return err
}
