// Package proxy writes the rule by which somebody's own proxy passes on what comes for a household's server: with
// HTTPS, the address of the client, ranges, bodies of any size, events as they happen, and answers that take long.
package proxy

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"text/template"
)

// Kind is a proxy that is known.
type Kind string

// The proxies.
const (
	Nginx   Kind = "nginx"
	Caddy   Kind = "caddy"
	HAProxy Kind = "haproxy"
	Apache  Kind = "apache"
)

// Kinds are all of them.
var Kinds = []Kind{Nginx, Caddy, HAProxy, Apache}

// Site is what a rule is for.
type Site struct {
	Household string // its name, for a remark
	Host      string // by which people ask
	Port      int    // of HTTPS outside
	Upstream  string // where the proxy reaches the server, host and port
	// Where the certificate lies, the chain and the key; what is empty is named as an example. For Caddy, which
	// gets one by itself, only where they are given.
	Certificate, Key string
}

// Fault is a site for which no rule can be written.
type Fault struct{ Why, Fix string }

func (f *Fault) Error() string { return f.Why }

var (
	hostName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*$`)
	upstream = regexp.MustCompile(`^(\[[0-9a-f:]+\]|[A-Za-z0-9._-]+):[0-9]{1,5}$`)
	filePath = regexp.MustCompile(`^/[A-Za-z0-9._/@+=-]+$`)
)

// SiteOf gives the site of an address that people use from outside.
func SiteOf(household, address, at string) (Site, error) {
	u, err := url.Parse(address)
	s := Site{Household: household, Port: 443, Upstream: at}
	switch {
	case err != nil || address == "":
		return s, &Fault{"there is no address for people outside",
			"write address = \"https://shelf.example.net\" under [remote]"}
	case u.Scheme != "https":
		return s, &Fault{"the address is plain HTTP", "write it with https: a proxy brings it"}
	}
	s.Host = strings.ToLower(strings.TrimSuffix(u.Hostname(), "."))
	if !hostName.MatchString(s.Host) || len(s.Host) > 253 {
		return s, &Fault{fmt.Sprintf("%q is no name for which a rule can be written", s.Host),
			"use a name of letters, digits, hyphens and dots"}
	}
	if p := u.Port(); p != "" {
		if _, err := fmt.Sscanf(p, "%d", &s.Port); err != nil || s.Port < 1 || s.Port > 65535 {
			return s, &Fault{p + " is no port", "write one from 1 to 65535, or none"}
		}
	}
	return s, nil
}

// Address is the site's, as people write it.
func (s Site) Address() string {
	if s.Port == 443 {
		return "https://" + s.Host
	}
	return fmt.Sprintf("https://%s:%d", s.Host, s.Port)
}

// Remark is the household's name as one line of a remark.
func (s Site) Remark() string {
	return strings.Join(strings.FieldsFunc(s.Household, func(r rune) bool {
		return r < ' ' || r == 0x7f || r > 0x7e &&
			r < 0xa0
	}), " ")
}

// Files names where the certificate lies.
func (s Site) Files() [2]string {
	if s.Certificate == "" {
		return [2]string{"/etc/ssl/" + s.Host + "/fullchain.pem", "/etc/ssl/" + s.Host + "/key.pem"}
	}
	return [2]string{s.Certificate, s.Key}
}

// Given reports whether it is known where the certificate lies.
func (s Site) Given() bool { return s.Certificate != "" }

// Rule writes the rule of a proxy.
func Rule(k Kind, s Site) (string, error) {
	if !slices.Contains(Kinds, k) {
		return "", &Fault{fmt.Sprintf("there is no rule for %q", k), "name nginx, caddy, haproxy or apache"}
	}
	if !upstream.MatchString(s.Upstream) {
		return "", &Fault{fmt.Sprintf("%q is no place where a server listens", s.Upstream), "give a host and a port"}
	}
	for _, f := range s.Files() {
		if !filePath.MatchString(f) {
			return "", &Fault{fmt.Sprintf("%q cannot stand in a rule", f), "give a whole path of plain letters"}
		}
	}
	var b strings.Builder
	err := rules.ExecuteTemplate(&b, string(k), s)
	return b.String(), err
}

var rules = template.Must(template.New("").Parse(`
{{- define "nginx" -}}
# {{.Remark}}: {{.Address}}, passed on to {{.Upstream}}.
upstream cozyshelf {
    server {{.Upstream}};
    keepalive 32;
}
server {
    listen 80;
    listen [::]:80;
    server_name {{.Host}};
    return 301 {{.Address}}$request_uri;
}
server {
    listen {{.Port}} ssl http2;
    listen [::]:{{.Port}} ssl http2;
    server_name {{.Host}};
    ssl_certificate     {{index .Files 0}};
    ssl_certificate_key {{index .Files 1}};
    ssl_protocols       TLSv1.2 TLSv1.3;

    client_max_body_size 0;                # the server has bounds of its own
    location / {
        proxy_pass http://cozyshelf;
        proxy_http_version 1.1;
        proxy_set_header Connection "";
        proxy_set_header Host $http_host;
        proxy_set_header X-Forwarded-For $remote_addr;
        proxy_set_header X-Forwarded-Proto $scheme;
        proxy_request_buffering off;       # uploads pass as they come
        proxy_buffering off;               # so do films and events
        proxy_read_timeout 1h;
        proxy_send_timeout 1h;
    }
}
{{end}}
{{- define "caddy" -}}
# {{.Remark}}: {{.Address}}, passed on to {{.Upstream}}.
{{.Address}} {
{{- if .Given}}
    tls {{index .Files 0}} {{index .Files 1}}
{{- end}}
    reverse_proxy {{.Upstream}} {
        header_up X-Forwarded-For {remote_host}
        flush_interval -1
    }
}
{{end}}
{{- define "haproxy" -}}
# {{.Remark}}: {{.Address}}, passed on to {{.Upstream}}.
# {{index .Files 0}} holds the chain and then the key.
frontend cozyshelf
    mode http
    bind :80
    bind :{{.Port}} ssl crt {{index .Files 0}} alpn h2,http/1.1 ssl-min-ver TLSv1.2
    timeout client 1h
    http-request redirect code 301 location {{.Address}}%[capture.req.uri] unless { ssl_fc }
    http-request set-header X-Forwarded-For %[src]
    http-request set-header X-Forwarded-Proto https
    acl shelf req.hdr(host),field(1,:) -i {{.Host}}
    use_backend cozyshelf if shelf
backend cozyshelf
    mode http
    timeout connect 5s
    timeout server 1h
    server shelf {{.Upstream}}
{{end}}
{{- define "apache" -}}
# {{.Remark}}: {{.Address}}, passed on to {{.Upstream}}.
# It needs the modules ssl, http2, proxy, proxy_http and headers.
<VirtualHost *:80>
    ServerName {{.Host}}
    Redirect permanent / {{.Address}}/
</VirtualHost>
<VirtualHost *:{{.Port}}>
    ServerName {{.Host}}
    Protocols h2 http/1.1
    SSLEngine on
    SSLProtocol -all +TLSv1.2 +TLSv1.3
    SSLCertificateFile    {{index .Files 0}}
    SSLCertificateKeyFile {{index .Files 1}}

    LimitRequestBody 0
    AllowEncodedSlashes NoDecode
    ProxyPreserveHost On
    RequestHeader unset X-Forwarded-For
    RequestHeader set X-Forwarded-Proto "https"
    ProxyPass        / http://{{.Upstream}}/ nocanon flushpackets=on timeout=3600
    ProxyPassReverse / http://{{.Upstream}}/
</VirtualHost>
{{end}}`))
