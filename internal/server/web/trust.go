package web

import (
	"crypto/sha256"
	"encoding/pem"
	"fmt"
	"html/template"
	"net/http"
	"strings"

	"cozyshelf/internal/server/live"
)

// TrustPath begins the pages by which devices at home come to trust the household's own authority. They are
// for whoever is at home, signed in or not: what is to be trusted has to be had before a connection is safe.
const TrustPath = "/trust"

// TrustRoutes adds them.
func (s *Web) TrustRoutes(m *http.ServeMux) {
	m.HandleFunc("GET "+TrustPath, s.atHome(s.pageTrust))
	m.HandleFunc("GET "+TrustPath+"/authority.crt", s.atHome(s.authorityFile))
}

// atHome answers whoever is at home, where there is an authority.
func (s *Web) atHome(do http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if live.VisitorOf(r).Away || s.Certificate.Authority() == nil {
			live.Fail(w, live.Nothing(r))
			return
		}
		do(w, r)
	}
}

// Fingerprint is the SHA-256 of a certificate as people compare it.
func Fingerprint(der []byte) string {
	var parts []string
	for _, b := range sha256.Sum256(der) {
		parts = append(parts, fmt.Sprintf("%02X", b))
	}
	return strings.Join(parts, ":")
}

func (s *Web) pageTrust(w http.ResponseWriter, r *http.Request) {
	scheme := "http"
	if live.VisitorOf(r).Secure {
		scheme = "https"
	}
	picture, err := drawn(scheme + "://" + r.Host + TrustPath)
	if err != nil {
		live.Fail(w, err)
		return
	}
	port := 0
	for _, l := range s.Settings.Listeners {
		if l.TLS {
			port = l.Port
		}
	}
	host := r.Host
	if at := strings.LastIndexByte(host, ':'); at > 0 && !strings.HasSuffix(host, "]") {
		host = host[:at]
	}
	s.Show(w, http.StatusOK, "trust", struct {
		Frame
		Picture     template.HTML
		Print, Safe string
	}{s.Frame(nil, "A safe connection at home", ""), picture, Fingerprint(s.Certificate.Authority()),
		fmt.Sprintf("https://%s:%d/", host, port)})
}

// authorityFile gives the authority's certificate as devices take it.
func (s *Web) authorityFile(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/x-x509-ca-cert")
	w.Header().Set("Content-Disposition", `attachment; filename="household-authority.crt"`)
	// Whoever asked may have gone.
	_ = pem.Encode(w, &pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate.Authority()})
}
