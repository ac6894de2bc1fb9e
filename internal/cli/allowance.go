package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/household"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
)

// allowed are the flags by which an allowance is given. What is not given stays.
type allowed struct {
	shelves, hours, until                    string
	minutes, weekly, streams                 string
	height, heightAway, bitrate, bitrateAway string
	age, bring, copies                       string
}

func (f *allowed) flags(c *cobra.Command) {
	for _, one := range []struct {
		to         *string
		name, text string
	}{
		{&f.shelves, "shelves", "the shelves that are there for the member, such as films,music; or all"},
		{&f.age, "age", "up to which age titles may be for, such as 12; or any"},
		{&f.bring, "bring", "yes or no: may bring media in; or role, which goes by the role"},
		{&f.copies, "copies", "yes or no: may have copies made and take them along; or role"},
		{&f.hours, "hours", "when they may watch, such as \"mon-fri 15:00-19:30, sat sun 08:00-21:00\"; or any"},
		{&f.minutes, "minutes", "how many minutes a day; or any"},
		{&f.weekly, "weekly-minutes", "how many minutes a week, from Monday on; or any"},
		{&f.streams, "streams", "how many streams at once; or any"},
		{&f.height, "height", "lines of the largest picture, such as 1080; or any"},
		{&f.heightAway, "height-away", "the same from outside the home"},
		{&f.bitrate, "bitrate", "bits a second of the largest picture, such as 8M; or any"},
		{&f.bitrateAway, "bitrate-away", "the same from outside the home"},
		{&f.until, "until", "when the account ends, such as 2026-12-01 or \"2026-12-01 18:00\"; or never"},
	} {
		c.Flags().StringVar(one.to, one.name, "", one.text)
	}
}

// given reports whether any of the flags was.
func (f *allowed) given() bool { return *f != allowed{} }

// apply changes an allowance as the flags say.
func (f *allowed) apply(c *cobra.Command, a *allowance.Allowance, zone *time.Location) error {
	switch f.shelves {
	case "":
	case "all":
		a.Shelves = nil
	default:
		a.Shelves = nil
		for name := range strings.SplitSeq(f.shelves, ",") {
			if name = strings.TrimSpace(name); name != "" && !slices.Contains(a.Shelves, name) {
				a.Shelves = append(a.Shelves, name)
			}
		}
		if len(a.Shelves) == 0 {
			return wrongUse(c, "--shelves takes names with commas between them, or all")
		}
	}
	switch n, err := strconv.Atoi(f.age); {
	case f.age == "":
	case f.age == "any":
		a.Age = nil
	case err != nil || n < 0 || n > household.OldestAge:
		return wrongUse(c, fmt.Sprintf("--age takes an age from 0 to %d, or any, not %q", household.OldestAge, f.age))
	default:
		a.Age = &n
	}
	for _, one := range []struct {
		flag, text string
		to         **bool
	}{{"bring", f.bring, &a.Bring}, {"copies", f.copies, &a.Copies}} {
		yes := one.text == "yes"
		switch one.text {
		case "":
		case "yes", "no":
			*one.to = &yes
		case "role":
			*one.to = nil
		default:
			return wrongUse(c, fmt.Sprintf("--%s takes yes, no or role, not %q", one.flag, one.text))
		}
	}
	switch f.hours {
	case "":
	case "any":
		a.Hours = nil
	default:
		h, err := allowance.ParseHours(f.hours)
		if err != nil || len(h) == 0 {
			return wrongUse(c, fmt.Sprintf("--hours cannot be read: %v", err))
		}
		a.Hours = h
	}
	for _, one := range []struct {
		flag, text string
		to         *int
		most       int
	}{{"minutes", f.minutes, &a.Day, 24 * 60}, {"weekly-minutes", f.weekly, &a.Week, 7 * 24 * 60},
		{"streams", f.streams, &a.Streams, 1000}, {"height", f.height, &a.Home.Height, 10_000},
		{"height-away", f.heightAway, &a.Away.Height, 10_000}} {
		n, err := strconv.Atoi(one.text)
		switch {
		case one.text == "":
		case one.text == "any":
			*one.to = 0
		case err != nil || n < 1 || n > one.most:
			return wrongUse(c, fmt.Sprintf("--%s takes a number from 1 to %d, or any, not %q", one.flag, one.most, one.text))
		default:
			*one.to = n
		}
	}
	for _, one := range []struct {
		flag, text string
		to         *int64
	}{{"bitrate", f.bitrate, &a.Home.Bitrate}, {"bitrate-away", f.bitrateAway, &a.Away.Bitrate}} {
		n, unit, err := humanize.ParseSI(one.text)
		switch {
		case one.text == "":
		case one.text == "any":
			*one.to = 0
		case err != nil || unit != "" && unit != "bit/s" || n < 100_000 || n > 1e10:
			return wrongUse(c, fmt.Sprintf("--%s takes bits a second from 100k to 10G, such as 8M, or any, not %q", one.flag,
				one.text))
		default:
			*one.to = int64(n)
		}
	}
	switch f.until {
	case "":
	case "never":
		a.Until = time.Time{}
	default:
		t, err := readUntil(f.until, zone)
		if err != nil {
			return wrongUse(c, fmt.Sprintf("--until takes a day or a time, such as 2026-12-01 or \"2026-12-01 18:00\", or "+
				"never, not %q", f.until))
		}
		a.Until = t
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

// readUntil reads a moment by the household's clocks. A day is meant to its end.
func readUntil(text string, zone *time.Location) (time.Time, error) {
	if t, err := time.ParseInLocation(time.DateOnly, text, zone); err == nil {
		return t.AddDate(0, 0, 1), nil
	}
	if t, err := time.ParseInLocation("2006-01-02 15:04", text, zone); err == nil {
		return t, nil
	}
	return time.Parse(time.RFC3339, text)
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
