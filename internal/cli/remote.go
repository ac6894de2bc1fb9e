package cli

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"time"

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
)

func (a *app) remoteCommand() *cobra.Command {
	c := &cobra.Command{Use: "remote", Short: "The way in from outside: rules for a proxy, and whether it works"}
	c.AddCommand(a.remoteProxyCommand(), a.remoteStatusCommand(), a.remoteTestCommand())
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
				return &problem.Problem{What: "no rule can be written", Why: f.Why, Fix: f.Fix, Exit: problem.ExitUsage, Err: err}
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
				err = a.document(outsideReport{Address: seen.Address, Works: worst != verdict.Blocked, Lines: lines, Seen: seen})
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
			out := remoteReport{Address: r.Address, Trusted: append([]string{}, r.TrustedProxies...),
				SecondFactor: r.SecondFactor,
				AllowPlain:   r.AllowPlain, Lines: []verdict.Line{}, Came: came}
			if r.Address != "" {
				w.Outside = true
				stop := a.looking("looking at "+r.Address, 0)
				out.Lines = append(out.Lines, reach.Judge(visit.Go(c.Context(), w), trustedOf(h))...)
				stop()
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
