package cli

import (
	"fmt"
	"slices"
	"strconv"
	"sync"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/capacity"

	"github.com/spf13/cobra"
)

func (a *app) capacityCommand() *cobra.Command {
	var quick, last bool
	c := a.withJSON(&cobra.Command{
		Use: "capacity", Short: "How many films this machine converts at once, measured",
		Args: cobra.NoArgs,
		Long: `Has the server convert test films that it makes itself, by every way that works here, as it
does for those who watch. It takes a few minutes and all of the processor; when somebody
begins to watch a film that has to be converted, it ends. With --quick one film is
converted at a time, for some seconds, and how many go together is reckoned.

What was found is kept, and the server goes by it: it bounds which pictures are made
while others are, and with at_once = "measured" under [convert] how many at once.`,
		RunE: func(c *cobra.Command, args []string) error {
			if quick && last {
				return wrongUse(c, "give one of --quick and --last")
			}
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			var found capacity.Measured
			if last {
				found, err = cl.Capacity(c.Context())
			} else {
				stop, step := a.measuring()
				found, err = cl.Measure(c.Context(), quick, step)
				stop()
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.document(found)
			}
			a.showCapacity(found)
			return nil
		},
	})
	c.Flags().BoolVar(&quick, "quick", false, "take less than a minute, and reckon the rest")
	c.Flags().BoolVar(&last, "last", false, "show what was measured last, and measure nothing")
	return c
}

// measuring tells each step of a measurement, and how far it is.
func (a *app) measuring() (stop func(), step func(control.MeasureLine)) {
	var mu sync.Mutex
	var now control.MeasureLine
	end := a.err.WatchText(func() string {
		mu.Lock()
		defer mu.Unlock()
		if now.What == "" {
			return "measuring"
		}
		return fmt.Sprintf("measuring, step %d of about %d: %s", now.Done+1, now.Of, show.Clean(now.What))
	})
	return end, func(l control.MeasureLine) {
		mu.Lock()
		defer mu.Unlock()
		now = l
	}
}

// showCapacity shows what was measured.
func (a *app) showCapacity(m capacity.Measured) {
	how := "measured"
	if m.Quick {
		how = "measured quickly: how many go together is reckoned"
	}
	a.out.Printf("%s\n", show.Faint(fmt.Sprintf("%s, %s, %d processors, ffmpeg %s", show.Clean(how),
		m.At.Local().Format("2006-01-02 15:04"), m.Processors, show.Clean(m.FFmpeg))))
	var rows [][]string
	for _, r := range m.Runs {
		if r.Problem != "" {
			rows = append(rows, []string{show.Clean(r.Task), show.Clean(r.Way), "–", "–", "–", "–", show.Clean(r.Problem)})
			continue
		}
		note := ""
		if r.AtOnce == 0 {
			note = "slower than it is watched"
		}
		rows = append(rows, []string{show.Clean(r.Task), show.Clean(r.Way), strconv.Itoa(r.AtOnce),
			fmt.Sprintf("%.1f×", r.Speed), fmt.Sprintf("%.1f", r.Processors), show.Size(r.Memory), note})
	}
	noted := slices.ContainsFunc(rows, func(r []string) bool { return r[6] != "" })
	columns := []show.Column{{Head: "from and to", Whole: true}, {Head: "by", Whole: true, Drop: 3},
		{Head: "at once", Right: true}, {Head: "speed of one", Right: true}, {Head: "processors", Right: true, Drop: 2},
		{Head: "memory", Right: true, Drop: 1}, {Head: ""}}
	if !noted {
		columns = columns[:6]
		for i := range rows {
			rows[i] = rows[i][:6]
		}
	}
	a.out.Table(columns, rows)
	a.out.Printf("\nThe server goes by this now. With at_once = \"measured\" under [convert] it also makes as many\n" +
		"pictures at once as were found.\n")
}
