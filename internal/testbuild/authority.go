package testbuild

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"testing"
	"time"
)

// Authority issues certificates for a test.
type Authority struct {
	Cert *x509.Certificate
	t    testing.TB
	key  *ecdsa.PrivateKey
}

// NewAuthority makes an authority of a name that nobody else knows.
func NewAuthority(t testing.TB, name string) *Authority {
	t.Helper()
	a := &Authority{t: t}
	a.Cert, a.key = a.issue(x509.Certificate{Subject: pkix.Name{CommonName: name}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().AddDate(0, 2, 0)})
	return a
}

// Issue makes a certificate for names, and its key.
func (a *Authority) Issue(from, until time.Time, names ...string) (*x509.Certificate, *ecdsa.PrivateKey) {
	a.t.Helper()
	return a.issue(x509.Certificate{DNSNames: names, NotBefore: from, NotAfter: until,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}})
}

func (a *Authority) issue(c x509.Certificate) (*x509.Certificate, *ecdsa.PrivateKey) {
	a.t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		a.t.Fatal(err)
	}
	c.SerialNumber = big.NewInt(time.Now().UnixNano())
	parent, by := a.Cert, a.key
	if parent == nil {
		parent, by = &c, k
	}
	b, err := x509.CreateCertificate(rand.Reader, &c, parent, &k.PublicKey, by)
	if err != nil {
		a.t.Fatal(err)
	}
	out, err := x509.ParseCertificate(b)
	if err != nil {
		a.t.Fatal(err)
	}
	return out, k
}
