package certificate

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/layout"
)

// How long certificates are good. The authority's is long, since each device has to be told of it by
// hand; the server's is made anew by itself.
const (
	authorityYears = 20
	leafDays       = 90
	leafRenew      = 30 * 24 * time.Hour // before its end
	skew           = 24 * time.Hour      // a device's clock may be behind by
)

// homeRanges are the addresses that a home's authority may vouch for: those that belong to nobody
// outside.
var homeRanges = []string{"127.0.0.0/8", "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16", "::1/128",
	"fc00::/7", "fe80::/10"}

// home is the household's own authority. It lies in the state folder, and can vouch for names and
// addresses of homes only: whoever takes it cannot pretend to be anybody outside.
type home struct {
	keeper *Keeper
	ca     *x509.Certificate
	key    crypto.Signer

	mu   sync.Mutex
	leaf *tls.Certificate
	of   string // the names that it was made for
}

func openHome(k *Keeper) *home {
	h := &home{keeper: k}
	k.said(h.open())
	return h
}

func (h *home) open() error {
	file := filepath.Join(h.keeper.State, layout.Authority)
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if b, err = newAuthority(h.keeper.Household, sorted(h.keeper.Names, isHost), time.Now()); err == nil {
			err = atomicfile.Replace(file, b, 0o600, nil)
		}
	}
	if err != nil {
		return fmt.Errorf("the household's own authority: %w", err)
	}
	pair, err := tls.X509KeyPair(b, b)
	if err != nil {
		return fmt.Errorf("the household's own authority, %s: %w; a backup holds it", file, err)
	}
	signer, ok := pair.PrivateKey.(crypto.Signer)
	if !ok || !pair.Leaf.IsCA {
		return fmt.Errorf("%s is no authority", file)
	}
	h.ca, h.key = pair.Leaf, signer
	return nil
}

// isHost reports whether a name is that of one machine, without a dot.
func isHost(name string) bool {
	_, err := netip.ParseAddr(name)
	return err != nil && !strings.Contains(name, ".")
}

func serial() *big.Int {
	b := make([]byte, 16)
	rand.Read(b)
	b[0] &= 0x7f
	return new(big.Int).SetBytes(b)
}

// mostCommonName is how many characters a name in a certificate may have (RFC 5280, A.1).
const mostCommonName = 64

// newAuthority makes an authority, as PEM with its key. hosts are names without a dot that it may vouch
// for, too.
func newAuthority(called string, hosts []string, now time.Time) ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	name := []rune(called + ", household authority " + now.Format("2006"))
	t := &x509.Certificate{
		SerialNumber: serial(),
		Subject:      pkix.Name{CommonName: string(name[:min(len(name), mostCommonName)])},
		NotBefore:    now.Add(-skew), NotAfter: now.AddDate(authorityYears, 0, 0),
		IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage:                    x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		ExtKeyUsage:                 []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		PermittedDNSDomainsCritical: true, PermittedDNSDomains: slices.Clone(household.HomeEnds),
		PermittedEmailAddresses: []string{"home.arpa"}, PermittedURIDomains: []string{"home.arpa"},
	}
	for _, h := range hosts {
		if !slices.Contains(t.PermittedDNSDomains, h) {
			t.PermittedDNSDomains = append(t.PermittedDNSDomains, h)
		}
	}
	for _, r := range homeRanges {
		_, n, err := net.ParseCIDR(r)
		if err != nil {
			return nil, err
		}
		t.PermittedIPRanges = append(t.PermittedIPRanges, n)
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}
	b, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: b})...), nil
}

// OnlyHomes reads what is said to be a household's own authority, as PEM, and gives its certificate in DER. Whoever
// has taken a server over may give another one, for devices to trust: one that could vouch for anything but homes is
// an error.
func OnlyHomes(text string) ([]byte, error) {
	b, rest := pem.Decode([]byte(text))
	if b == nil || b.Type != "CERTIFICATE" || len(strings.TrimSpace(string(rest))) > 0 {
		return nil, errors.New("it is not one certificate")
	}
	c, err := x509.ParseCertificate(b.Bytes)
	if err != nil {
		return nil, err
	}
	for _, d := range c.PermittedDNSDomains {
		if strings.Contains(d, ".") && !slices.Contains(household.HomeEnds, d) {
			return nil, fmt.Errorf("it could vouch for %q, which is no name of a home", d)
		}
	}
	for _, n := range c.PermittedIPRanges {
		ones, _ := n.Mask.Size()
		if !slices.ContainsFunc(homeRanges, func(r string) bool {
			_, home, err := net.ParseCIDR(r)
			if err != nil {
				return false
			}
			least, _ := home.Mask.Size()
			return len(home.IP) == len(n.IP) && home.Contains(n.IP) && ones >= least
		}) {
			return nil, fmt.Errorf("it could vouch for %s, which are no addresses of a home", n)
		}
	}
	serves := len(c.ExtKeyUsage) == 1 && c.ExtKeyUsage[0] == x509.ExtKeyUsageServerAuth && len(c.UnknownExtKeyUsage) == 0
	if !c.IsCA || !c.PermittedDNSDomainsCritical || len(c.PermittedDNSDomains) == 0 || len(c.PermittedIPRanges) == 0 ||
		!serves || c.MaxPathLen != 0 || !c.MaxPathLenZero {
		return nil, errors.New("it is not bound to homes, and to web sites there")
	}
	return c.Raw, nil
}

// permits reports whether the authority may vouch for a name or an address.
func (h *home) permits(name string) bool {
	if a, err := netip.ParseAddr(name); err == nil {
		return slices.ContainsFunc(h.ca.PermittedIPRanges, func(n *net.IPNet) bool {
			return n.Contains(a.Unmap().AsSlice()) && (len(n.IP) == net.IPv4len) == a.Unmap().Is4()
		})
	}
	return slices.ContainsFunc(h.ca.PermittedDNSDomains, func(d string) bool {
		return name == d || strings.HasSuffix(name, "."+d)
	})
}

// names are those of the household that mean something at home, and this machine's own addresses.
func (h *home) names() []string {
	out := sorted(h.keeper.Names, func(n string) bool {
		_, err := netip.ParseAddr(n)
		return err == nil || household.IsHomeName(n)
	})
	list, err := net.InterfaceAddrs()
	if err != nil {
		return out
	}
	for _, a := range list {
		p, err := netip.ParsePrefix(a.String())
		if err == nil && (p.Addr().IsPrivate() || p.Addr().IsLoopback()) && !slices.Contains(out, p.Addr().String()) {
			out = append(out, p.Addr().String())
		}
	}
	return out
}

func (h *home) certificate(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	if h.ca == nil {
		return nil, errNone
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if c := h.leaf; c != nil && !h.old(c.Leaf, time.Now()) {
		return c, nil
	}
	return h.renew(time.Now())
}

func (h *home) current(string) (*tls.Certificate, error) { return h.certificate(nil) }

// old reports whether a certificate is to be made anew: its end is near, or the clock was set back.
func (h *home) old(c *x509.Certificate, now time.Time) bool {
	return now.Before(c.NotBefore.Add(skew/2)) || c.NotAfter.Sub(now) < leafRenew
}

// renew makes the server's certificate anew. The lock is held.
func (h *home) renew(now time.Time) (*tls.Certificate, error) {
	all := h.names()
	c, err := h.issue(now, slices.DeleteFunc(slices.Clone(all), func(n string) bool { return !h.permits(n) }))
	if err == nil {
		h.leaf, h.of = c, strings.Join(all, " ")
	}
	return c, err
}

// issue makes a certificate for names and addresses.
func (h *home) issue(now time.Time, names []string) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Household server"},
		NotBefore: now.Add(-skew), NotAfter: now.AddDate(0, 0, leafDays), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true}
	for _, name := range names {
		if ip := net.ParseIP(name); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, name)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, h.ca, key.Public(), h.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{der, h.ca.Raw}, PrivateKey: key, Leaf: leaf}, nil
}

// run makes another certificate when this machine has another address, or its end is near.
func (h *home) run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Minute):
		}
		if h.ca == nil {
			h.keeper.said(h.open())
			continue
		}
		h.mu.Lock()
		if h.leaf != nil && strings.Join(h.names(), " ") != h.of {
			h.leaf = nil
		}
		h.mu.Unlock()
	}
}

func (h *home) authority() []byte {
	if h.ca == nil {
		return nil
	}
	return h.ca.Raw
}

// print is what people compare.
func (h *home) print() string {
	if h.ca == nil {
		return ""
	}
	sum := sha256.Sum256(h.ca.Raw)
	return hex.EncodeToString(sum[:])
}

// addresses are those that a certificate is good for.
func addresses(c *x509.Certificate) (out []string) {
	for _, ip := range c.IPAddresses {
		out = append(out, ip.String())
	}
	return out
}
