package cli

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"time"

	"cozyshelf/internal/certificate"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/proxy"
	"cozyshelf/internal/core/reach"
	"cozyshelf/internal/core/verdict"
	"cozyshelf/internal/operate"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/remote/visit"

	"github.com/spf13/cobra"
	"rsc.io/qr"
)

func (a *app) remoteCommand() *cobra.Command {
	c := &cobra.Command{Use: "remote", Short: "The way in from outside: rules for a proxy, and whether it works"}
	c.AddCommand(a.remoteProxyCommand(), a.remoteStatusCommand(), a.remoteTestCommand(),
		a.remoteCertificateCommand(), a.remoteNameCommand(), a.remoteCloseCommand(), a.remoteOpenCommand())
	return c
}

func (a *app) remoteProxyCommand() *cobra.Command {
	var cert, key string
	c := &cobra.Command{
		Use:   "proxy nginx|caddy|haproxy|apache",
		Short: "Write the rule by which a proxy of yours passes on what comes from outside",
		Long: `Writes the rule for exactly this household: HTTPS at the address that the household file gives under [remote],
passed on with the address of the client, films in parts, uploads of any size, events as they happen, and answers that
take long. The proxy runs on this machine. Then cozyshelf remote test tells whether it does what it should, and which
address the server has to trust.`,
		Args: cobra.ExactArgs(1), ValidArgs: []string{"nginx", "caddy", "haproxy", "apache"},
		RunE: func(c *cobra.Command, args []string) error {
			if (cert == "") != (key == "") {
				return wrongUse(c, "give --certificate and --key, or neither")
			}
			h, err := a.load()
			if err != nil {
				return err
			}
			s, err := proxy.SiteOf(h.Household.Name, h.Remote.Address, upstreamOf(h))
			var text string
			if err == nil {
				s.Certificate, s.Key = cert, key
				text, err = proxy.Rule(proxy.Kind(args[0]), s)
			}
			var f *proxy.Fault
			if errors.As(err, &f) {
				return &problem.Problem{What: "no rule can be written", Why: f.Why, Fix: f.Fix, Exit: problem.ExitUsage,
					Err: err}
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.document(proxyRule{Proxy: args[0], Address: s.Address(), Upstream: s.Upstream, Rule: text})
			}
			a.out.Printf("%s", text)
			if len(h.Remote.TrustedProxies) == 0 {
				a.warn("the server trusts no proxy yet, so everybody would seem to be where the proxy is; put the rule in place, and " +
					"cozyshelf remote test tells what to write into trusted_proxies under [remote]")
			}
			return nil
		},
	}
	c.Flags().StringVar(&cert, "certificate", "",
		"the file with the chain of the certificate; left out, a place is proposed")
	c.Flags().StringVar(&key, "key", "", "the file with its key")
	return a.withJSON(c)
}

// proxyRule is the document of remote proxy.
type proxyRule struct {
	Proxy    string `json:"proxy"`
	Address  string `json:"address"`
	Upstream string `json:"upstream"`
	Rule     string `json:"rule"`
}

// upstreamOf is where a proxy on this machine reaches the server.
func upstreamOf(h *household.Household) string {
	host := "127.0.0.1"
	if bind, err := h.Server.BindAddr(); err == nil && !bind.IsUnspecified() {
		host = bind.String()
	}
	return net.JoinHostPort(host, fmt.Sprint(h.Server.Port))
}

// asking are the flags of commands that ask by the address that people use from outside.
type asking struct {
	ca, connect, from string
	patient           bool
}

func (f *asking) flags(c *cobra.Command) {
	c.Flags().StringVar(&f.ca, "ca", "", "a file with the certificate of an authority of your own")
	c.Flags().StringVar(&f.connect, "connect", "", "ask this address, whatever the name stands for")
	c.Flags().StringVar(&f.from, "from", "", "ask from this address of this machine")
}

// wish reads the flags.
func (f *asking) wish(c *cobra.Command, address string) (visit.Wish, error) {
	w := visit.Wish{Address: address}
	for _, one := range []struct {
		flag, text string
		to         *netip.Addr
	}{{"connect", f.connect, &w.Connect}, {"from", f.from, &w.From}} {
		if one.text == "" {
			continue
		}
		a, err := netip.ParseAddr(one.text)
		if err != nil {
			return w, wrongUse(c, fmt.Sprintf("--%s takes an address such as 192.0.2.10, not %q", one.flag, one.text))
		}
		*one.to = a
	}
	if f.ca != "" {
		b, err := os.ReadFile(f.ca)
		if err != nil {
			return w, &problem.Problem{What: "the authority's certificate cannot be read", Where: f.ca, Why: err.Error(),
				Fix: "name a file that you may read", Err: err}
		}
		if w.Roots = x509.NewCertPool(); !w.Roots.AppendCertsFromPEM(b) {
			return w, &problem.Problem{What: "the authority's certificate cannot be read", Where: f.ca,
				Why: "there is none in it",
				Fix: "name a file in PEM, which begins with -----BEGIN CERTIFICATE-----", Exit: problem.ExitUsage}
		}
	}
	return w, nil
}

// outsideReport is the document of remote test.
type outsideReport struct {
	Address string         `json:"address"`
	Works   bool           `json:"works"` // nothing is blocked
	Lines   []verdict.Line `json:"lines"`
	Seen    reach.Seen     `json:"seen"`
}

func (a *app) remoteTestCommand() *cobra.Command {
	var f asking
	c := &cobra.Command{
		Use: "test", Short: "Ask the server by the address that people use from outside, and say what is wrong on the way",
		Long: `Asks the server as a stranger would, from this machine and by the address under [remote]: what the name stands
for, the certificate, whether what stands between passes on the client's address, HTTPS and the name, parts of
films, uploads and events. It says the least that has to be done. Exit code 3 where something is blocked.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			h, err := a.open(c.Context())
			if err != nil {
				return err
			}
			w, err := f.wish(c, h.Household.Remote.Address)
			if err != nil {
				return err
			}
			cl := h.Client()
			v, err := cl.AnnounceVisit(c.Context())
			if err != nil {
				return err
			}
			w.Token, w.Patient = v.Token, f.patient
			w.Arrived = func(ctx context.Context) (*reach.Arrival, error) {
				v, err := cl.Visit(ctx, v.Token)
				return v.Arrived, err
			}
			stop := a.looking("asking "+h.Household.Remote.Address, 0)
			seen := visit.Go(c.Context(), w)
			stop()
			if err := c.Context().Err(); err != nil {
				return err
			}
			lines := reach.Judge(seen, trustedOf(h))
			worst := verdict.Worst(lines)
			if a.json {
				err = a.document(outsideReport{Address: seen.Address, Works: worst != verdict.Blocked, Lines: lines,
					Seen: seen})
			} else {
				a.showLines(lines)
				a.out.Printf("\n%s\n", map[verdict.Status]string{
					verdict.OK:      "The way in works.",
					verdict.Warning: "The way in works; see the warnings.",
					verdict.Blocked: "The way in does not work yet; see what is blocked.",
				}[worst])
			}
			if err == nil && worst == verdict.Blocked {
				err = &exit{problem.ExitFound}
			}
			return err
		},
	}
	f.flags(c)
	c.Flags().BoolVar(&f.patient, "patient", false,
		"see whether an answer is waited for that takes longer than a minute, too")
	return a.withJSON(c)
}

func trustedOf(h *operate.House) (out []netip.Prefix) {
	for _, text := range h.Household.Remote.TrustedProxies {
		if p, err := household.ParseNetwork(text); err == nil { // checked when the file was read
			out = append(out, p)
		}
	}
	return out
}

// remoteReport is the document of remote status.
type remoteReport struct {
	Address      string         `json:"address"`
	Trusted      []string       `json:"trusted_proxies"`
	SecondFactor string         `json:"second_factor"`
	AllowPlain   bool           `json:"allow_plain"`
	Lines        []verdict.Line `json:"lines"`
	Came         []cameIn       `json:"came_in"`
	Closed       time.Time      `json:"closed_at,omitzero"`
}

// cameIn is a device that was used from outside.
type cameIn struct {
	Member  string    `json:"member"`
	Device  string    `json:"device"`
	Address string    `json:"address"`
	Seen    time.Time `json:"seen_at"`
	Second  bool      `json:"second_factor"`
}

func (a *app) remoteStatusCommand() *cobra.Command {
	var f asking
	c := &cobra.Command{
		Use: "status", Short: "The way in from outside: address, certificate, and who came in by it",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			h, err := a.open(c.Context())
			if err != nil {
				return err
			}
			r := h.Household.Remote
			w, err := f.wish(c, r.Address)
			if err != nil {
				return err
			}
			came, err := cameInOf(c.Context(), h.Client())
			if err != nil {
				return err
			}
			closed, err := h.Client().Outside(c.Context())
			if err != nil {
				return err
			}
			out := remoteReport{Address: r.Address, Trusted: append([]string{}, r.TrustedProxies...),
				SecondFactor: r.SecondFactor,
				AllowPlain:   r.AllowPlain, Lines: []verdict.Line{}, Came: came, Closed: closed.Closed}
			if r.Address != "" {
				w.Outside = true
				stop := a.looking("looking at "+r.Address, 0)
				out.Lines = append(out.Lines, reach.Judge(visit.Go(c.Context(), w), trustedOf(h))...)
				stop()
			}
			if r.HTTPS() || r.Name.Wanted() {
				st, err := h.Client().Status(c.Context())
				if err != nil {
					return err
				}
				if st.Certificate != nil {
					out.Lines = append(out.Lines, ownHTTPS(*st.Certificate))
				}
				if st.Name != nil {
					out.Lines = append(out.Lines, st.Name.Judge(time.Now()))
				}
			}
			if a.json {
				return a.document(out)
			}
			a.showRemote(out)
			return nil
		},
	}
	f.flags(c)
	return a.withJSON(c)
}

func (a *app) showRemote(r remoteReport) {
	if r.Address == "" {
		a.out.Printf("Nothing leads in from outside: no address is written under [remote] of %s\n", show.Clean(a.household))
	} else {
		a.out.Printf("%s\n", show.Bold(show.Clean(r.Address)))
	}
	if !r.Closed.IsZero() {
		a.out.Printf("%s closed since %s: nobody is answered outside the home; cozyshelf remote open\n",
			show.Mark("warning"),
			show.When(r.Closed))
	}
	trusted := "none"
	if len(r.Trusted) > 0 {
		trusted = strings.Join(r.Trusted, ", ")
	}
	rows := [][]string{{"trusted proxies", trusted}, {"second factor", "for " + r.SecondFactor}}
	if r.AllowPlain {
		rows = append(rows, []string{"plain HTTP", "answered from outside, too: anybody on the way can read what passes"})
	}
	a.out.Table([]show.Column{{Whole: true}, {}}, rows)
	a.showLines(r.Lines)
	if len(r.Came) == 0 {
		a.out.Printf("Nobody who is signed in came from outside.\n")
		return
	}
	a.out.Printf("Came from outside:\n")
	rows = nil
	for _, d := range r.Came {
		by := ""
		if d.Second {
			by = "second factor"
		}
		rows = append(rows, []string{show.When(d.Seen), show.Clean(d.Member), show.Clean(d.Device), d.Address, by})
	}
	a.out.Table([]show.Column{{Whole: true}, {Whole: true}, {}, {Whole: true}, {}}, rows)
}

// ownHTTPS judges the certificate of the server's own HTTPS.
func ownHTTPS(c control.Certificate) verdict.Line {
	return reach.JudgeOwn(reach.OwnCertificate{From: c.From, Names: c.Names, Missing: c.Missing, Ends: c.Ends,
		Problem: c.Problem})
}

func (a *app) remoteCertificateCommand() *cobra.Command {
	var save string
	c := &cobra.Command{
		Use:   "certificate",
		Short: "The certificate of the server's own HTTPS, and how devices come to trust it",
		Long: `Tells of the certificate of the server's own HTTPS: for which names it is good, and until when. Where the household
vouches for itself (from = "home" under [remote.certificate]), it also tells where a device gets the authority's
certificate, and shows the fingerprint to compare.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			h, err := a.open(c.Context())
			if err != nil {
				return err
			}
			st, err := h.Client().Status(c.Context())
			if err != nil {
				return err
			}
			own := st.Certificate
			if own == nil {
				return &problem.Problem{What: "the server has no HTTPS of its own",
					Why: "there is no [remote.certificate] in the household file, or it was not deployed since",
					Fix: "write from = \"home\", \"files\" or \"acme\" under it, and deploy", Exit: problem.ExitUsage}
			}
			var print string
			if own.PEM != "" {
				der, err := certificate.OnlyHomes(own.PEM)
				if err != nil {
					return &problem.Problem{What: "what the server gives must not be trusted", Why: err.Error(),
						Fix: "somebody may have taken the server over; see SECURITY.md, and restore a backup from before", Err: err}
				}
				print = fmt.Sprintf("%X", sha256.Sum256(der))
			}
			if save != "" {
				if own.PEM == "" {
					return &problem.Problem{What: "there is no authority to save",
						Why: "the certificate is not the household's own",
						Fix: "leave --save out", Exit: problem.ExitUsage}
				}
				if err := a.newFile(save, "a saved certificate", []byte(own.PEM)); err != nil {
					return err
				}
			}
			if a.json {
				return a.document(own)
			}
			a.showLines([]verdict.Line{ownHTTPS(*own)})
			if print == "" {
				return nil
			}
			at := h.Address() + "/trust"
			a.out.Printf("\nDevices at home get the authority's certificate at %s\n", at)
			if code, err := qr.Encode(at, qr.M); err == nil {
				a.out.Printf("%s", drawn(code))
			}
			a.out.Printf("Compare its SHA-256 before you trust it:\n%s\n", printed(print))
			return nil
		},
	}
	c.Flags().StringVar(&save, "save", "", "also save the authority's certificate in a new file (PEM)")
	return a.withJSON(c)
}

func (a *app) remoteCloseCommand() *cobra.Command {
	var in control.Closing
	c := &cobra.Command{
		Use: "close", Short: "Let nobody in from outside the home, until remote open",
		Long: `Has the server answer nobody outside the home any more, also after a restart, until cozyshelf remote open.
What is being sent at this moment is still sent, and a film stops where its device asks for more; --now ends that,
too, within 2 s. At home nothing changes.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			o, err := cl.CloseOutside(c.Context(), in)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(o)
			}
			a.out.Printf("Closed from outside since %s\n", show.When(o.Closed))
			if in.Now {
				a.out.Printf("Ended: %s\n", show.Count(o.Ended, "request", "requests"))
			}
			return nil
		},
	}
	c.Flags().BoolVar(&in.Now, "now", false, "also end what is being sent outside")
	return a.withJSON(c)
}

func (a *app) remoteOpenCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "open", Short: "Let members in from outside the home again", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			o, err := cl.OpenOutside(c.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.document(o)
			}
			a.out.Printf("Open from outside, for members who may; nothing was changed at a router\n")
			return nil
		},
	})
}

// printed writes a fingerprint as people compare it.
func printed(hex string) string {
	var parts []string
	for i := 0; i+2 <= len(hex); i += 2 {
		parts = append(parts, strings.ToUpper(hex[i:i+2]))
	}
	return strings.Join(parts, ":")
}

// cameInOf gives the devices that were used from outside last.
func cameInOf(ctx context.Context, cl *control.Client) ([]cameIn, error) {
	out := []cameIn{}
	members, err := cl.Members(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range members {
		whole, err := cl.Member(ctx, m.Name)
		if err != nil {
			return nil, err
		}
		for _, d := range whole.Signed {
			if d.Away {
				out = append(out, cameIn{m.Name, d.Name, d.Address, d.Seen, d.Second})
			}
		}
	}
	return out, nil
}
