package cli

import (
	"fmt"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/allowance"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
)

// allowed are the flags by which an allowance is given. What is not given stays.
type allowed struct{ allowance.Words }

func (f *allowed) flags(c *cobra.Command) {
	for _, one := range []struct {
		to         *string
		name, text string
	}{
		{&f.Shelves, "shelves", "the shelves that are there for the member, such as films,music; or all"},
		{&f.Age, "age", "up to which age titles may be for, such as 12; or any"},
		{&f.Bring, "bring", "yes or no: may bring media in; or role, which goes by the role"},
		{&f.Copies, "copies", "yes or no: may have copies made and take them along; or role"},
		{&f.Hours, "hours", "when they may watch, such as \"mon-fri 15:00-19:30, sat sun 08:00-21:00\"; or any"},
		{&f.Minutes, "minutes", "how many minutes a day; or any"},
		{&f.Weekly, "weekly-minutes", "how many minutes a week, from Monday on; or any"},
		{&f.Streams, "streams", "how many streams at once; or any"},
		{&f.Height, "height", "lines of the largest picture, such as 1080; or any"},
		{&f.HeightAway, "height-away", "the same from outside the home"},
		{&f.Bitrate, "bitrate", "bits a second of the largest picture, such as 8M; or any"},
		{&f.BitrateAway, "bitrate-away", "the same from outside the home"},
		{&f.Until, "until", "when the account ends, such as 2026-12-01 or \"2026-12-01 18:00\"; or never"},
	} {
		c.Flags().StringVar(one.to, one.name, "", one.text)
	}
}

// given reports whether any of the flags was.
func (f *allowed) given() bool { return *f != allowed{} }

// apply changes an allowance as the flags say.
func (f *allowed) apply(c *cobra.Command, a *allowance.Allowance, zone *time.Location) error {
	if err := f.Apply(a, zone); err != nil {
		return wrongUse(c, "--"+err.Error())
	}
	return nil
}

// clocked gives a client for the server, and the zone of the household's clocks. Flags that cannot be
// read are refused before.
func (a *app) clocked(c *cobra.Command, f allowed) (*control.Client, *time.Location, error) {
	if err := f.apply(c, &allowance.Allowance{}, time.UTC); err != nil {
		return nil, nil, err
	}
	h, err := a.open(c.Context())
	if err != nil {
		return nil, nil, err
	}
	zone, err := time.LoadLocation(h.Household.Household.Timezone)
	if err != nil {
		return nil, nil, err
	}
	return h.Client(), zone, nil
}

// allowedWords tells what an allowance bounds, a line each.
func allowedWords(m control.Member) (out [][2]string) {
	a := m.Allowed
	say := func(what, format string, args ...any) {
		out = append(out, [2]string{what, fmt.Sprintf(format, args...)})
	}
	say("from", "%s", awayWords(m.Away))
	if len(a.Shelves) > 0 {
		say("shelves", "%s", strings.Join(a.Shelves, ", "))
	}
	if a.Age != nil {
		say("age", "titles for up to %d years", *a.Age)
	}
	for _, one := range []struct {
		what string
		may  *bool
	}{{"bring media in", a.Bring}, {"take copies along", a.Copies}} {
		if one.may != nil && *one.may {
			say("may", "%s", one.what)
		} else if one.may != nil {
			say("may not", "%s", one.what)
		}
	}
	if len(a.Hours) > 0 {
		say("hours", "%s", allowance.FormatHours(a.Hours))
	}
	switch {
	case a.Day > 0 && a.Week > 0:
		say("minutes", "%d a day, %d a week", a.Day, a.Week)
	case a.Day > 0:
		say("minutes", "%d a day", a.Day)
	case a.Week > 0:
		say("minutes", "%d a week", a.Week)
	}
	if a.Streams > 0 {
		say("at once", "%d", a.Streams)
	}
	for i, s := range []allowance.Size{a.Home, a.Away} {
		where := []string{"at home", "away"}[i]
		var parts []string
		if s.Height > 0 {
			parts = append(parts, fmt.Sprintf("%d lines", s.Height))
		}
		if s.Bitrate > 0 {
			parts = append(parts, humanize.SIWithDigits(float64(s.Bitrate), 1, "bit/s"))
		}
		if len(parts) > 0 {
			say("picture "+where, "at most %s", strings.Join(parts, ", "))
		}
	}
	if !a.Until.IsZero() {
		say("until", "%s", byHousehold(a.Until))
	}
	return out
}

func (a *app) memberShowCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "show NAME", Short: "What a member may watch, and has watched", Args: cobra.ExactArgs(1),
		Long: `Shows what a member may watch, how much of it is used, and the devices that are signed in.
Minutes are those that devices tell to be watched. What a device fetches more than ten minutes ahead of
that counts, too.`,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			m, err := cl.Member(c.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.document(m)
			}
			a.out.Printf("%s is %s\n", m.Name, roleWords[m.Role])
			var rows [][]string
			for _, line := range allowedWords(m.Member) {
				rows = append(rows, line[:])
			}
			for _, t := range m.Titles {
				rows = append(rows, []string{map[bool]string{true: "shown", false: "hidden"}[t.Shown],
					fmt.Sprintf("%s (%s)", show.Clean(t.Name), show.Clean(t.Shelf))})
			}
			if !m.Factor.IsZero() {
				rows = append(rows, []string{"second factor", "since " + show.When(m.Factor)})
			}
			for _, k := range m.Passkeys {
				used := "never used"
				if !k.Used.IsZero() {
					used = "last used " + show.When(k.Used)
				}
				rows = append(rows, []string{"passkey", fmt.Sprintf("%s, for %s, %s", show.Clean(k.Name), show.Clean(k.Place),
					used)})
			}
			if !m.Password {
				rows = append(rows, []string{"password", "none: comes in by passkeys only"})
			}
			if !m.Made.IsZero() {
				rows = append(rows, []string{"password", "made for them, good until " + show.When(m.Made)})
			}
			rows = append(rows, []string{"watched", fmt.Sprintf("%s today, %s this week", show.Minutes(m.Today),
				show.Minutes(m.Week))}, []string{"now", standingWords(m)})
			a.out.Table([]show.Column{{Whole: true}, {}}, rows)
			return nil
		},
	})
}

// reasonWords are reasons in a sentence.
var reasonWords = map[allowance.Reason]string{allowance.Hours: "it is outside of the hours",
	allowance.Day: "the minutes of the day are used up", allowance.Week: "those of the week are used up",
	allowance.Ended: "the account has ended"}

// byHousehold writes a moment as the server gives it, which is by the household's clocks.
func byHousehold(t time.Time) string { return t.Format("Monday 2006-01-02 15:04") }

// standingWords tells whether a member may watch at this moment.
func standingWords(m control.MemberShown) string {
	switch {
	case m.Now && m.Until.IsZero():
		return "may watch"
	case m.Now:
		return fmt.Sprintf("may watch until %s; then %s", byHousehold(m.Until), reasonWords[m.Reason])
	case m.Until.IsZero():
		return "may not watch: " + reasonWords[m.Reason]
	}
	return fmt.Sprintf("may not watch: %s until %s", reasonWords[m.Reason], byHousehold(m.Until))
}

// whereWords tells where a device was used last.
func whereWords(d control.MemberDevice) string {
	switch {
	case d.Address == "":
		return ""
	case d.Away:
		return "away, " + d.Address
	}
	return "home, " + d.Address
}

func (a *app) memberDevicesCommand() *cobra.Command {
	var end int64
	c := &cobra.Command{
		Use: "devices [NAME]", Short: "The devices that are signed in; sign one out", Args: cobra.MaximumNArgs(1),
		Example: "  cozyshelf member devices\n  cozyshelf member devices bram",
		RunE: func(c *cobra.Command, args []string) error {
			if end != 0 && len(args) == 0 {
				return wrongUse(c, "--end needs the member, too")
			}
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			if end != 0 {
				if err := cl.EndDevice(c.Context(), args[0], end); err != nil {
					return err
				}
			}
			names := args
			if len(names) == 0 {
				list, err := cl.Members(c.Context())
				if err != nil {
					return err
				}
				for _, m := range list {
					names = append(names, m.Name)
				}
			}
			doc := []memberDevices{}
			var rows [][]string
			for _, name := range names {
				m, err := cl.Member(c.Context(), name)
				if err != nil {
					return err
				}
				doc = append(doc, memberDevices{Member: m.Name, Devices: m.Signed})
				for _, d := range m.Signed {
					rows = append(rows, []string{fmt.Sprint(d.ID), m.Name, d.Name, d.Kind, show.When(d.Seen),
						whereWords(d), show.When(d.Created)})
				}
			}
			if a.json {
				return a.document(doc)
			}
			if end != 0 {
				a.out.Printf("Device %d is signed out\n", end)
			}
			if len(rows) == 0 {
				a.out.Printf("No device is signed in.\n")
				return nil
			}
			a.out.Table([]show.Column{{Head: "no", Right: true}, {Head: "member", Whole: true}, {Head: "device"},
				{Head: "for a", Drop: 2}, {Head: "last seen", Whole: true}, {Head: "from", Drop: 3},
				{Head: "signed in", Whole: true, Drop: 1}}, rows)
			return nil
		},
	}
	c.Flags().Int64Var(&end, "end", 0, "sign out the device of this number")
	return a.withJSON(c)
}
