package household

import (
	"fmt"
	"strconv"
	"strings"
)

// Usage is [usage].
type Usage struct {
	History string `toml:"history"` // how long plays are kept with names: forever, or days such as "365 days"
	Choice  string `toml:"choice"`  // who may shorten it for themselves: members, or nobody (household)
}

// Words of [usage].
const (
	Forever         = "forever"
	ChoiceMembers   = "members"
	ChoiceHousehold = "household"
)

const mostHistory = 36_500

// HistoryDays gives for how many days plays are kept with names; 0 for as long as they are there.
func (u Usage) HistoryDays() (int, error) {
	if u.History == "" || u.History == Forever {
		return 0, nil
	}
	text, ok := strings.CutSuffix(u.History, " days")
	if u.History == "1 day" {
		text, ok = "1", true
	}
	n, err := strconv.Atoi(text)
	if !ok || err != nil || n < 1 || n > mostHistory {
		return 0, fmt.Errorf("%q is no time to keep plays for", u.History)
	}
	return n, nil
}

func (h *Household) judgeUsage(c *complaints) {
	if _, err := h.Usage.HistoryDays(); err != nil {
		c.bad("usage.history", "write \"forever\", or days such as \"365 days\"", "%s", err)
	}
}
