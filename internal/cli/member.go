package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"

	"github.com/spf13/cobra"
)

func (a *app) memberCommand() *cobra.Command {
	c := &cobra.Command{Use: "member", Short: "The people with an account"}
	c.AddCommand(a.memberAddCommand(), a.memberListCommand(), a.memberEditCommand(), a.memberRemoveCommand(),
		a.memberPasswordCommand(), a.memberShowCommand(), a.memberDevicesCommand(), a.memberInviteCommand())
	return c
}

// password is where a password comes from: never from the command line.
type password struct {
	file     string
	generate bool
}

func (p *password) flags(c *cobra.Command) {
	c.Flags().StringVar(&p.file, "password-file", "", "read the password from a file; - for standard input")
	c.Flags().BoolVar(&p.generate, "generate", false, "make a passphrase and print it once")
	c.MarkFlagsMutuallyExclusive("password-file", "generate")
}

// take gives a password, and whether it was made here. From a file or standard
// input the first line counts; on a terminal it is asked for twice.
func (p *password) take(a *app) (text string, made bool, err error) {
	switch {
	case p.generate:
		return secret.Passphrase(), true, nil
	case p.file != "" && p.file != "-":
		f, err := os.Open(p.file)
		if err != nil {
			return "", false, &problem.Problem{What: "the password cannot be read", Where: p.file, Why: err.Error(),
				Fix: "name a file that you may read", Err: err}
		}
		defer f.Close()
		text, err = firstLine(f)
		return text, false, err
	case p.file == "-" || !terminal():
		text, err = firstLine(a.in)
		return text, false, err
	}
	one, err := a.unseen("password (press Enter to have a passphrase made)")
	if err != nil {
		return "", false, err
	}
	if one == "" {
		return secret.Passphrase(), true, nil
	}
	two, err := a.unseen("once more")
	if err != nil {
		return "", false, err
	}
	if one != two {
		return "", false, &problem.Problem{What: "no password was set", Why: "the two were not the same",
			Fix: "try again", Exit: problem.ExitUsage}
	}
	return one, false, nil
}

// passphrase shows one that was made for a member.
func (a *app) passphrase(member, text string) {
	a.out.Printf("Passphrase, shown only now: %s\n", text)
	a.out.Printf("It is good for a week; until then %s signs in with it and chooses a password of their own.\n", member)
}

func firstLine(r io.Reader) (string, error) {
	line, err := bufio.NewReader(io.LimitReader(r, 4096)).ReadString('\n')
	line = strings.TrimRight(line, "\r\n")
	if line != "" {
		return line, nil
	}
	if err == nil || errors.Is(err, io.EOF) {
		err = nil
	}
	return "", &problem.Problem{What: "there is no password", Why: "its first line is empty",
		Fix:  "give it on standard input, with --password-file, or let one be made with --generate",
		Exit: problem.ExitUsage, Err: err}
}

func (a *app) memberAddCommand() *cobra.Command {
	var m control.NewMember
	var p password
	var may allowed
	var role, away string
	c := &cobra.Command{
		Use: "add NAME --role ROLE", Short: "Let a person in",
		Long: `Adds a member. The first must be an administrator. The password comes from
standard input, a file or a prompt, or is made and printed once.`,
		Example: "  cozyshelf member add wren --role admin\n  cozyshelf member add bram --role child --generate",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			m.Name, m.Role = args[0], allowance.Role(role)
			if !m.Role.Known() {
				return wrongUse(c, fmt.Sprintf("there is no role %q; a member is admin, adult, child or guest", role))
			}
			var err error
			if m.Away, err = yesNo(c, "away", away); err != nil {
				return err
			}
			cl, zone, err := a.clocked(c, may)
			if err != nil {
				return err
			}
			if may.given() {
				m.Allowed = &allowance.Allowance{}
				if err := may.apply(c, m.Allowed, zone); err != nil {
					return err
				}
			}
			if m.Password, m.Made, err = p.take(a); err != nil {
				return err
			}
			got, err := cl.AddMember(c.Context(), m)
			if err != nil {
				return err
			}
			if a.json {
				doc := memberAdded{Name: got.Name, Role: got.Role, Away: got.Away}
				if m.Made {
					doc.Passphrase = m.Password
				}
				return a.document(doc)
			}
			a.out.Printf("Added %s (%s, %s)\n", got.Name, got.Role, awayWords(got.Away))
			if m.Made {
				a.passphrase(got.Name, m.Password)
			}
			return nil
		},
	}
	c.Flags().StringVar(&role, "role", "", "admin, adult, child or guest")
	c.Flags().StringVar(&away, "away", "",
		"yes or no: may use the server from outside the home (default yes for admin and adult)")
	may.flags(c)
	p.flags(c)
	if err := c.MarkFlagRequired("role"); err != nil {
		panic(err) // the flag is made above
	}
	return a.withJSON(c)
}

func yesNo(c *cobra.Command, flag, s string) (*bool, error) {
	switch s {
	case "":
		return nil, nil
	case "yes", "no":
		v := s == "yes"
		return &v, nil
	}
	return nil, wrongUse(c, fmt.Sprintf("--%s takes yes or no, not %q", flag, s))
}

func awayWords(away bool) string {
	if away {
		return "at home and away"
	}
	return "at home only"
}

func (a *app) memberListCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "list", Short: "Who has an account", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			list, err := cl.Members(c.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.document(list)
			}
			if len(list) == 0 {
				a.out.Printf("Nobody yet; cozyshelf member add NAME --role admin\n")
				return nil
			}
			var rows [][]string
			for _, m := range list {
				rows = append(rows, []string{m.Name, string(m.Role), awayWords(m.Away), fmt.Sprint(m.Devices),
					show.When(m.Seen), show.When(m.Created)})
			}
			a.out.Table([]show.Column{{Head: "member", Whole: true}, {Head: "role"}, {Head: "may watch", Whole: true},
				{Head: "devices", Right: true, Drop: 2}, {Head: "last seen", Whole: true, Drop: 3},
				{Head: "added", Whole: true, Drop: 1}}, rows)
			return nil
		},
	})
}

func (a *app) memberEditCommand() *cobra.Command {
	var away, role string
	var may allowed
	var shown, hidden, byAge []string
	var forget, keyless bool
	c := &cobra.Command{
		Use: "edit NAME", Short: "Change what a member may do", Args: cobra.ExactArgs(1),
		Long: `Gives a member another role, or bounds what it may watch, when, from where and how much.
It holds at once, also for who is signed in. The last administrator stays one.
A bound that is not named stays; all, any or never takes one away.

A title that is hidden by itself is not there for the member, and one that is shown by itself is,
whatever its age, on a shelf that is there. Titles are named as for "shelf match".`,
		Example: "  cozyshelf member edit bram --age 6 --show \"Copper Kite\" --hide \"The Night Bakery\"\n" +
			"  cozyshelf member edit bram --hours \"mon-fri 15:00-19:30, sat sun 08:00-21:00\" --minutes 60\n" +
			"  cozyshelf member edit bram --until 2026-12-01 --shelves films,series\n" +
			"  cozyshelf member edit bram --away no",
		RunE: func(c *cobra.Command, args []string) error {
			var change control.Change
			var err error
			if change.Away, err = yesNo(c, "away", away); err != nil {
				return err
			}
			if role != "" {
				r := allowance.Role(role)
				if !r.Known() {
					return wrongUse(c, fmt.Sprintf("there is no role %q; a member is admin, adult, child or guest",
						role))
				}
				change.Role = &r
			}
			ruled := len(shown)+len(hidden)+len(byAge) > 0
			if change.Away == nil && change.Role == nil && !may.given() && !ruled && !forget && !keyless {
				return wrongUse(c, "say what is to be changed, such as --role adult or --away yes")
			}
			cl, zone, err := a.clocked(c, may)
			if err != nil {
				return err
			}
			if may.given() {
				now, err := cl.Member(c.Context(), args[0])
				if err != nil {
					return err
				}
				change.Allowed = &now.Allowed
				if err := may.apply(c, change.Allowed, zone); err != nil {
					return err
				}
			}
			change.ForgetFactor, change.ForgetPasskeys = forget, keyless
			if change.Titles, err = a.titleRules(c, cl, shown, hidden, byAge); err != nil {
				return err
			}
			m, err := cl.ChangeMember(c.Context(), args[0], change)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(m)
			}
			a.out.Printf("%s is %s, and may watch %s\n", m.Name, roleWords[m.Role], awayWords(m.Away))
			var rows [][]string
			for _, line := range allowedWords(m)[1:] {
				rows = append(rows, line[:])
			}
			a.out.Table([]show.Column{{Whole: true}, {}}, rows)
			return nil
		},
	}
	c.Flags().StringVar(&role, "role", "", "admin, adult, child or guest")
	c.Flags().StringVar(&away, "away", "", "yes or no: may use the server from outside the home")
	c.Flags().StringArrayVar(&shown, "show", nil, "show this title whatever its age; may be given several times")
	c.Flags().StringArrayVar(&hidden, "hide", nil, "hide this title; may be given several times")
	c.Flags().StringArrayVar(&byAge, "by-age", nil, "neither show nor hide this title by itself any more")
	c.Flags().BoolVar(&forget, "forget-second-factor", false, "for who has lost theirs: sign-ins go without a code again")
	c.Flags().BoolVar(&keyless, "forget-passkeys", false, "for who has lost a device with one: no passkey lets them in")
	may.flags(c)
	return a.withJSON(c)
}

// titleRules finds the titles that are to be shown, hidden, or to go by their age again.
func (a *app) titleRules(c *cobra.Command, cl *control.Client, shown, hidden, byAge []string) (map[int64]*bool, error) {
	yes, no := true, false
	out := map[int64]*bool{}
	for _, one := range []struct {
		titles []string
		rule   *bool
	}{{shown, &yes}, {hidden, &no}, {byAge, nil}} {
		for _, text := range one.titles {
			id, err := a.titleOf(c.Context(), cl, text)
			if err != nil {
				return nil, err
			}
			if _, twice := out[id]; twice {
				return nil, wrongUse(c, fmt.Sprintf("%q is named twice", text))
			}
			out[id] = one.rule
		}
	}
	return out, nil
}

// roleWords are roles in a sentence.
var roleWords = map[allowance.Role]string{allowance.Admin: "an administrator", allowance.Adult: "an adult",
	allowance.Child: "a child", allowance.Guest: "a guest"}

func (a *app) memberRemoveCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "remove NAME", Short: "Take a member's account away; its plays stay in the history",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			if err := a.agree(yes, fmt.Sprintf("Remove %s, sign its devices out and forget its positions?",
				args[0])); err != nil {
				return err
			}
			if err := cl.RemoveMember(c.Context(), args[0]); err != nil {
				return err
			}
			if a.json {
				return a.document(memberRemoved{Removed: args[0]})
			}
			a.out.Printf("Removed %s\n", args[0])
			return nil
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return a.withJSON(c)
}

func (a *app) memberPasswordCommand() *cobra.Command {
	var p password
	c := &cobra.Command{
		Use: "password NAME", Short: "Give a member a new password; its devices are signed out",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			text, made, err := p.take(a)
			if err != nil {
				return err
			}
			m, err := cl.ChangeMember(c.Context(), args[0], control.Change{Password: &text, Made: made})
			if err != nil {
				return err
			}
			if a.json {
				doc := passwordChanged{Member: m.Name}
				if made {
					doc.Passphrase = text
				}
				return a.document(doc)
			}
			a.out.Printf("%s has a new password; all devices are signed out\n", args[0])
			if made {
				a.passphrase(m.Name, text)
			}
			return nil
		},
	}
	p.flags(c)
	return a.withJSON(c)
}
