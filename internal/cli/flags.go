package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// span is a flag that takes a length of time: 90m, 2h30m, 7d.
type span struct{ to *time.Duration }

// String gives it as it is written.
func (s span) String() string {
	if s.to == nil || *s.to == 0 {
		return ""
	}
	return strings.TrimSuffix(strings.TrimSuffix(s.to.String(), "0s"), "0m")
}

// Set reads it.
func (s span) Set(text string) error {
	d, err := parseSpan(text)
	if err == nil {
		*s.to = d
	}
	return err
}

// Type names what it takes.
func (s span) Type() string { return "length" }

// spanVar adds such a flag.
func spanVar(c *cobra.Command, to *time.Duration, name string, value time.Duration, usage string) {
	*to = value
	c.Flags().Var(span{to}, name, usage)
}

// parseSpan reads a length of time, in days, too.
func parseSpan(s string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(s, "d"); ok {
		n, err := strconv.ParseFloat(days, 64)
		if err == nil && n >= 0 && n < 36500 {
			return time.Duration(n * 24 * float64(time.Hour)), nil
		}
	} else if d, err := time.ParseDuration(s); err == nil && d >= 0 {
		return d, nil
	}
	return 0, fmt.Errorf("%q is no length of time; write 90m, 2h30m or 7d", s)
}

// parseTime reads a moment: a length of time ago, a date, or a time.
func parseTime(s string, now time.Time) (time.Time, error) {
	if d, err := parseSpan(s); err == nil {
		return now.Add(-d), nil
	}
	switch strings.ToLower(s) {
	case "today":
		return time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location()), nil
	case "yesterday":
		return time.Date(now.Year(), now.Month(), now.Day()-1, 0, 0, 0, 0, now.Location()), nil
	}
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04",
		"2006-01-02",
		"2006-01"} {
		if t, err := time.ParseInLocation(form, s, now.Location()); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time; write 90m, 7d, yesterday, 2026-11-23, \"2026-11-23 20:15\" or a "+
		"time as "+
		"RFC 3339 has it", s)
}

// since reads the moment from which on something is wanted; zero for all.
func since(c *cobra.Command, s string) (time.Time, error) {
	if s == "" {
		return time.Time{}, nil
	}
	t, err := parseTime(s, time.Now())
	if err != nil {
		return t, wrongUse(c, err.Error())
	}
	return t, nil
}

// flagFault says in plain words what is wrong with a flag.
func flagFault(c *cobra.Command, err error) error {
	var value *pflag.InvalidValueError
	var unknown *pflag.NotExistError
	var missing *pflag.ValueRequiredError
	why := err.Error()
	switch {
	case errors.As(err, &value):
		f := value.GetFlag()
		takes := map[string]string{"int": "a number", "int64": "a number", "float64": "a number",
			"bool": "true or false"}[f.Value.Type()]
		if why = "--" + f.Name + ": " + errors.Unwrap(value).Error(); takes != "" {
			why = fmt.Sprintf("--%s takes %s, and %q is none", f.Name, takes, value.GetValue())
		}
	case errors.As(err, &unknown):
		name := unknown.GetSpecifiedName()
		if len(name) > 1 {
			why = "there is no flag --" + name
			if near := nearFlag(c, name); near != "" {
				why += "; did you mean --" + near + "?"
			}
		} else {
			why = "there is no flag -" + name
		}
	case errors.As(err, &missing):
		what, _ := pflag.UnquoteUsage(missing.GetFlag())
		why = fmt.Sprintf("--%s needs %s after it", missing.GetFlag().Name, withArticle(what))
	}
	return wrongUse(c, why)
}

func withArticle(what string) string {
	if what == "" || what == "string" {
		return "a value"
	}
	if strings.ContainsAny(what[:1], "aeiou") {
		return "an " + what
	}
	return "a " + what
}

// nearFlag finds the flag of a command that was probably meant.
func nearFlag(c *cobra.Command, name string) string {
	var all []string
	c.Flags().VisitAll(func(f *pflag.Flag) {
		if !f.Hidden {
			all = append(all, f.Name)
		}
	})
	return household.Nearest(name, all)
}

// wrongFlag refuses the value of a flag that writes a key of the household file.
func wrongFlag(c *cobra.Command, flag string, f household.Complaint) error {
	return &problem.Problem{What: "the value cannot be written into the household file", Where: c.CommandPath() +
		" --" + flag,
		Why: f.Why, Fix: f.Fix, Exit: problem.ExitUsage}
}
