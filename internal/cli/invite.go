package cli

import (
	"fmt"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/allowance"

	"github.com/spf13/cobra"
	"rsc.io/qr"
)

func (a *app) memberInviteCommand() *cobra.Command {
	var i control.NewInvite
	var may allowed
	var role, away, good, cancel string
	c := &cobra.Command{
		Use: "invite [NAME --role ROLE]", Short: "Make a link by which a person lets themselves in",
		Long: `Makes a link, and its QR code, by which one person chooses their own password. It is good once, and
for a day. Whoever has it can use it: give it to that person only. Another invite for the same name takes
its place. Without a name, lists the invites that are open.`,
		Example: "  cozyshelf member invite linnea --role child --minutes 120\n  cozyshelf member invite\n" +
			"  cozyshelf member invite --cancel linnea",
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if cancel != "" || len(args) == 0 {
				return a.openInvites(c, cancel, len(args) > 0 || role != "")
			}
			i.Name, i.Role = args[0], allowance.Role(role)
			if !i.Role.Known() {
				return wrongUse(c, "say with --role what they are to be: admin, adult, child or guest")
			}
			var err error
			if i.Away, err = yesNo(c, "away", away); err != nil {
				return err
			}
			if i.For, err = lasting(c, good, 30); err != nil {
				return err
			}
			cl, zone, err := a.clocked(c, may)
			if err != nil {
				return err
			}
			if may.given() {
				i.Allowed = &allowance.Allowance{}
				if err := may.apply(c, i.Allowed, zone); err != nil {
					return err
				}
			}
			made, err := cl.Invite(c.Context(), i)
			if err != nil {
				return err
			}
			h, err := a.open(c.Context())
			if err != nil {
				return err
			}
			links := []string{h.Address() + made.Path}
			if outside := h.Household.Remote.Address; outside != "" && made.Away {
				links = append(links, strings.TrimSuffix(outside, "/")+made.Path)
			}
			made.Path = ""
			if a.json {
				return a.document(invited{Invite: made, Links: links})
			}
			a.out.Printf("%s can come in once, until %s, as %s:\n", made.Name, show.When(made.Expires), roleWords[made.Role])
			for _, l := range links {
				a.out.Printf("%s\n", l)
			}
			code, err := qr.Encode(links[len(links)-1], qr.M)
			if err != nil {
				return err
			}
			a.out.Printf("\n%s", drawn(code))
			return nil
		},
	}
	c.Flags().StringVar(&role, "role", "", "admin, adult, child or guest")
	c.Flags().StringVar(&away, "away", "",
		"yes or no: may use the server from outside the home (default yes for admin and adult)")
	c.Flags().StringVar(&good, "for", "1d", "how long it is good, such as 2h or 7d")
	c.Flags().StringVar(&cancel, "cancel", "", "take back the invite for this name")
	may.flags(c)
	return a.withJSON(c)
}

// openInvites lists the invites that are open, after taking one back.
func (a *app) openInvites(c *cobra.Command, cancel string, more bool) error {
	if more {
		return wrongUse(c, "name whom to invite, or take an invite back, but not both")
	}
	cl, err := a.server(c.Context())
	if err != nil {
		return err
	}
	if cancel != "" {
		if err := cl.TakeBack(c.Context(), cancel); err != nil {
			return err
		}
	}
	list, err := cl.Invites(c.Context())
	if err != nil {
		return err
	}
	if a.json {
		doc := []invited{}
		for _, i := range list {
			doc = append(doc, invited{Invite: i})
		}
		return a.document(doc)
	}
	if cancel != "" {
		a.out.Printf("The invite for %s is taken back\n", cancel)
	}
	if len(list) == 0 {
		a.out.Printf("No invite is open.\n")
		return nil
	}
	var rows [][]string
	for _, i := range list {
		rows = append(rows, []string{i.Name, string(i.Role), awayWords(i.Away), show.When(i.Created), show.When(i.Expires)})
	}
	a.out.Table([]show.Column{{Head: "invited", Whole: true}, {Head: "role"}, {Head: "may watch", Whole: true, Drop: 2},
		{Head: "made", Whole: true, Drop: 1}, {Head: "good until", Whole: true}}, rows)
	return nil
}

// lasting reads how long an invite or a key is good: so many days at most.
func lasting(c *cobra.Command, text string, most int) (time.Duration, error) {
	d, err := time.ParseDuration(text)
	if days, ok := strings.CutSuffix(text, "d"); ok {
		var n int
		if _, err = fmt.Sscanf(days+" ", "%d ", &n); err == nil {
			d = time.Duration(n) * 24 * time.Hour
		}
	}
	if err != nil || d < time.Minute || d > time.Duration(most)*24*time.Hour {
		return 0, wrongUse(c, fmt.Sprintf("--for takes a time from 1m to %dd, such as 2h or 7d, not %q", most, text))
	}
	return d, nil
}

// drawn draws a QR code (ISO/IEC 18004), two rows to a line, with the light margin of four that
// readers need. Light is drawn, since most terminals are dark; readers take either.
func drawn(code *qr.Code) string {
	var b strings.Builder
	light := func(x, y int) bool {
		return x < 0 || y < 0 || x >= code.Size || y >= code.Size || !code.Black(x, y)
	}
	const margin = 4
	for y := -margin; y < code.Size+margin; y += 2 {
		for x := -margin; x < code.Size+margin; x++ {
			switch up, down := light(x, y), light(x, y+1); {
			case up && down:
				b.WriteString("█")
			case up:
				b.WriteString("▀")
			case down:
				b.WriteString("▄")
			default:
				b.WriteString(" ")
			}
		}
		b.WriteString("\n")
	}
	return b.String()
}
