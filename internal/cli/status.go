package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/today"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/core/verdict"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/operate"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// statusReport is the document of cozyshelf status.
type statusReport struct {
	At         time.Time       `json:"gathered_at"`
	Household  string          `json:"household"`
	ID         string          `json:"id"`
	Engine     string          `json:"engine"`
	EngineIs   string          `json:"engine_version"`
	Isolated   bool            `json:"isolated"` // it runs in a container
	Deployed   bool            `json:"deployed"`
	Running    bool            `json:"running"`
	Healthy    bool            `json:"healthy"`
	Why        string          `json:"why,omitempty"` // it is not healthy
	Fix        string          `json:"fix,omitempty"`
	Since      time.Time       `json:"started_at,omitzero"`
	Restarts   int             `json:"restarts"`
	Container  string          `json:"container,omitempty"`
	Version    string          `json:"version,omitempty"`
	Image      string          `json:"image,omitempty"` // digest of the program
	Address    string          `json:"address"`
	AsFile     bool            `json:"as_file"`      // as the household file says
	Changes    []string        `json:"changes"`      // what deploy would do
	Drift      []string        `json:"drift"`        // what somebody changed on the engine by hand
	Processor  float64         `json:"processor"`    // cores kept busy now
	Limit      int64           `json:"memory_limit"` // bytes
	Mounts     []mountReport   `json:"mounts"`
	Streams    []usage.Play    `json:"streams"`
	Last       *entryReport    `json:"last_deployment,omitempty"`
	Unfinished []entryReport   `json:"unfinished"` // begun and not ended
	Boot       string          `json:"boot"`       // what starts it with the machine
	Server     *control.Status `json:"server,omitempty"`
}

// mountReport is one folder of the host inside, with what the account may do there.
type mountReport struct {
	What    string         `json:"what"`
	Host    string         `json:"host"`
	Inside  string         `json:"inside"`
	Write   bool           `json:"write"`
	Verdict verdict.Status `json:"verdict"`
	Says    string         `json:"says"`
}

func (a *app) statusCommand() *cobra.Command {
	var watch bool
	var pause time.Duration
	c := &cobra.Command{
		Use: "status", Short: "How the deployment is", Args: cobra.NoArgs,
		Long: `Shows on one screen whether the server is healthy, or why not, what it runs on, what
it may use, who watches, and what somebody changed by hand. --watch shows it again
and again, until you press Ctrl-C. Exit code 3 when the server is not healthy: stopped, not
deployed, or sick; so that a program which watches the machine can use it.`,
		RunE: func(c *cobra.Command, _ []string) error {
			if c.Flags().Changed("pause") && !watch || pause < 200*time.Millisecond {
				return wrongUse(c, "--pause goes with --watch, and is 200ms or more")
			}
			r, err := a.status(c.Context(), nil)
			if err != nil {
				return err
			}
			if watch {
				return a.watchStatus(c.Context(), r, pause)
			}
			if a.json {
				err = a.document(r)
			} else {
				a.showStatus(r)
			}
			if err == nil && !r.Healthy {
				return &exit{problem.ExitFound}
			}
			return err
		},
	}
	c.Flags().BoolVar(&watch, "watch", false, "show it again and again")
	spanVar(c, &pause, "pause", 2*time.Second, "with --watch: how long to wait in between")
	return a.withJSON(c)
}

// watchStatus shows the status again and again. Where there is no terminal, each
// time is a plain line, or a document.
func (a *app) watchStatus(ctx context.Context, r *statusReport, pause time.Duration) error {
	return a.again(ctx, pause, func(screen bool) error {
		switch {
		case a.json:
			return a.document(r)
		case screen:
			a.showStatus(r)
		default:
			state := "healthy"
			if !r.Healthy {
				state = "not healthy: " + r.Why
			}
			a.out.Printf("%s  %s, %s, %.0f %% of a core\n", r.At.Format(time.RFC3339), state,
				show.Count(len(r.Streams), "stream", "streams"), r.Processor*100)
		}
		return nil
	}, func(ctx context.Context) error {
		next, err := a.status(ctx, r)
		if err == nil {
			r = next
		}
		return err
	})
}

// again shows something again and again, on a screen of its own where there is a terminal, until Ctrl-C.
func (a *app) again(ctx context.Context, pause time.Duration, draw func(screen bool) error,
	next func(context.Context) error) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	screen := term.IsTerminal(int(os.Stdout.Fd())) && !a.json
	if screen {
		a.out.Screen("\x1b[?1049h\x1b[?25l") // another screen, without a cursor
		defer a.out.Screen("\x1b[?25h\x1b[?1049l")
	}
	for {
		if screen {
			a.out.Screen("\x1b[H\x1b[2J")
		}
		if err := draw(screen); err != nil {
			return err
		}
		if screen {
			a.out.Printf("\n%s\n", show.Faint(time.Now().Format("15:04:05")+", again every "+show.Since(pause)+
				"; Ctrl-C ends"))
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(pause):
		}
		err := next(ctx)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// sampleFor is how long the processor is looked at where there is no former look.
const sampleFor = 250 * time.Millisecond

// status gathers the report. What costs much is taken from a former one that is
// less than a minute old.
func (a *app) status(ctx context.Context, before *statusReport) (*statusReport, error) {
	s, seen, err := a.deployed(ctx)
	missing := errors.Is(err, operate.ErrNotDeployed)
	if err != nil && !missing {
		return nil, err
	}
	r := &statusReport{At: time.Now(), Household: s.Name(), ID: s.ID, Engine: s.Facts.Kind, EngineIs: s.Facts.Version,
		Isolated: s.Facts.Can.Isolates, Deployed: !missing, Address: s.Address(),
		Drift: append([]string{}, seen.Drift...), Changes: []string{}, Mounts: []mountReport{},
		Streams: []usage.Play{}, Unfinished: []entryReport{}, Boot: boot(s)}
	a.lastDeployment(s, r)
	if missing {
		r.Why, r.Fix = "it is not deployed", "cozyshelf deploy"
		if others := s.Others(ctx); len(others) > 0 {
			r.Why = fmt.Sprintf("the household file names %s, and it is deployed on %s", s.Facts.Kind, others[0].Kind)
			r.Fix = "cozyshelf check says how to move it"
		} else if was := deploy.ReadDeployed(s.Household.Storage.State); was != nil {
			r.Why, r.Fix = "somebody removed its container by hand",
				"cozyshelf deploy makes it again; members, positions and plays are kept"
			r.Drift = append(r.Drift, r.Why)
		}
		return r, nil
	}
	c := seen.Service
	r.Running, r.Restarts, r.Container, r.Image, r.Version, r.Limit = seen.Running, seen.Restarts, seen.Name,
		c.Image.Program, c.Version, c.Memory
	if d, err := s.Draw(ctx); err == nil {
		r.AsFile = d.Blueprint.Server().Digest() == seen.Digest
		if !r.AsFile {
			r.Changes = append(r.Changes, blueprint.Differences(c, d.Blueprint.Server())...)
		}
	}
	defer func() {
		if before != nil && r.At.Sub(before.At) < time.Minute && len(before.Mounts) > 0 {
			r.Mounts = before.Mounts
		} else {
			r.Mounts = a.mounts(ctx, s, c, r.Server)
		}
	}()
	if !seen.Running {
		r.Why, r.Fix = fmt.Sprintf("it is stopped (code %d)", seen.ExitCode), "cozyshelf start"
		return r, nil
	}
	r.Since = seen.Started
	if seen.Waiting {
		r.Why = fmt.Sprintf("it crashed (code %d) soon after it started, and is started again within a minute",
			seen.ExitCode)
		r.Fix = "cozyshelf logs says why; cozyshelf start or cozyshelf deploy tries at once"
		return r, nil
	}
	ask, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	st, err := s.Client().Status(ask)
	if err != nil {
		p := problem.Of(err)
		r.Why, r.Fix = p.What+": "+p.Why, p.Fix
		return r, nil
	}
	r.Server, r.Healthy, r.Why, r.Fix = &st, st.Ready, st.Problem, st.Fix
	if list, err := s.Client().History(ask, usage.Filter{Open: true}); err == nil && list != nil {
		r.Streams = list
	}
	earlier, at := st, r.At
	if before != nil && before.Server != nil && before.Server.Started.Equal(st.Started) {
		earlier, at = *before.Server, before.At
	} else {
		time.Sleep(sampleFor)
		if st, err = s.Client().Status(ask); err != nil {
			return r, nil
		}
	}
	if spent := time.Since(at).Seconds(); spent > 0 {
		r.Processor = max(0, st.Processor-earlier.Processor) / spent
	}
	return r, nil
}

// finishes says which command finishes what was cut off: the same one again.
func finishes(u *ledger.Undo) string {
	if u == nil {
		return ""
	}
	switch u.Kind {
	case ledger.Deployment:
		return "cozyshelf deploy continues it, "
	case undoStore:
		return "the same cozyshelf restore finishes it, "
	case undoAccess:
		return "cozyshelf access --mend finishes it, "
	case undoTidy:
		return "cozyshelf tidy finishes it, "
	}
	return ""
}

// lastDeployment finds what the ledger says of deployments.
func (a *app) lastDeployment(s *operate.House, r *statusReport) {
	list, _, err := ledger.Read(s.Household.Storage.State)
	if err != nil {
		return // whoever may not read it does without
	}
	for _, e := range list {
		if e.Outcome == ledger.Open && e.Of == 0 {
			r.Unfinished = append(r.Unfinished, reportEntry(e))
		}
		if e.Action == "deploy" && e.Of == 0 {
			last := reportEntry(e)
			r.Last = &last
		}
	}
}

// boot says what starts the server with the machine.
func boot(s *operate.House) string {
	switch s.Household.Server.Start {
	case household.StartNever:
		return "nothing starts it but cozyshelf start"
	case household.StartCrash:
		return "after a crash only"
	}
	if s.Facts.Can.Boots {
		return "with the engine, and after a crash"
	}
	dir := machine.Units()
	name := blueprint.UnitName(s.ID)
	for _, target := range []string{"multi-user.target", "default.target"} {
		if dir != "" && machine.UnitEnabled(dir, name, target) {
			return "with the machine (" + dir + "/" + name + "), and after a crash"
		}
	}
	return "after a crash; with the machine only once systemd has a unit, which deploy writes where it can"
}

// mounts says of each folder what the account may do there.
func (a *app) mounts(ctx context.Context, s *operate.House, c blueprint.Service, st *control.Status) []mountReport {
	var lines []verdict.Line
	var unseen []operate.Unseen
	if !s.Facts.Elsewhere {
		found := a.gather(ctx, s)
		if st != nil {
			found, unseen = s.Unseen(found, st.Shelves)
		}
		lines = verdict.Judge(s.Household, found)
	}
	out := []mountReport{}
	for _, m := range c.Mounts {
		r := mountReport{What: m.What, Host: m.Place(), Inside: m.Target, Write: !m.ReadOnly}
		what := map[blueprint.MountRole]string{blueprint.MountState: "state folder",
			blueprint.MountScratch: "scratch folder",
			blueprint.MountBackups: "backup folder", blueprint.MountCertificate: "certificate"}[m.Role]
		if m.Role == blueprint.MountShelf {
			what = "shelf " + m.What
		}
		at := slices.IndexFunc(lines, func(l verdict.Line) bool { return l.What == what && l.About == m.Place() })
		if at >= 0 {
			r.Verdict = lines[at].Status
			r.Says = strings.TrimLeft(strings.TrimPrefix(lines[at].Says, m.Place()), ":, ")
		} else if s.Facts.Elsewhere {
			r.Says = "on the engine's machine; cozyshelf access --prove tries it from inside"
		} else {
			r.Says = "no longer in the household file"
		}
		for _, u := range unseen {
			if u.Folder == m.Source {
				r.Verdict = verdict.Warning
				r.Says += fmt.Sprintf("; %s was mounted after the server started, so %s on it are not seen: "+
					"cozyshelf restart",
					u.Point, show.Count(u.Files, "file", "files"))
			}
		}
		if !s.Facts.Can.Isolates {
			r.Inside = ""
		}
		out = append(out, r)
	}
	return out
}

// showToday shows what matters now, in five lines.
func (a *app) showToday(list []today.Line) {
	if len(list) > 0 {
		a.out.Printf("\n")
	}
	for _, l := range list {
		sign := "·"
		if !l.Well {
			sign = "!"
		}
		a.out.Printf("%s %s\n", sign, show.Clean(l.Text))
	}
}

func (a *app) showStatus(r *statusReport) {
	state := "healthy"
	if !r.Deployed {
		state = "not deployed"
		if len(r.Drift) > 0 {
			state += ": " + r.Why
		}
	} else if !r.Healthy {
		state = "not healthy: " + r.Why
	}
	a.out.Printf("%s is %s\n", show.Bold(r.Household), show.Clean(state))
	if r.Fix != "" && !r.Healthy {
		a.out.Printf("→ %s\n", show.Clean(r.Fix))
	}
	if r.Server != nil {
		a.showToday(r.Server.Today)
	}
	a.out.Printf("\n")
	engine := r.Engine
	if r.Isolated {
		engine += " " + r.EngineIs
	}
	a.row("engine", "%s; starts %s", engine, r.Boot)
	a.row("page", "%s", r.Address)
	for _, e := range r.Unfinished {
		a.row("unfinished", "entry %d, %s: %s; %scozyshelf undo %d takes it back", e.ID, show.When(e.BegunAt),
			e.What, finishes(e.Undo), e.ID)
	}
	if !r.Deployed {
		return
	}
	a.showDeployed(r)
	if r.Server != nil {
		a.showServer(r)
	}
	a.showMounts(r.Mounts)
	if r.Server == nil || !r.Server.Ready {
		return
	}
	a.out.Printf("\n")
	a.showShelves(r.Server.Shelves)
	a.out.Printf("\n")
	a.showStreams(r.Streams, nil)
}

// row shows one line of the status, folded to the terminal's width.
func (a *app) row(name, says string, args ...any) {
	for i, line := range a.out.Lines(show.Clean(fmt.Sprintf(says, args...)), 12) {
		if i > 0 {
			name = ""
		}
		a.out.Printf("%s %s\n", show.Faint(fmt.Sprintf("%-11s", name)), line)
	}
}

// showDeployed shows what is deployed, and how it differs from the household file.
func (a *app) showDeployed(r *statusReport) {
	_, digest, _ := strings.Cut(r.Image, ":")
	a.row("program", "%s (image %s)", r.Version, digest[:min(12, len(digest))])
	a.row("container", "%s", r.Container)
	if r.Running {
		restarts := ""
		if r.Restarts > 0 {
			restarts = fmt.Sprintf("; %s since, see cozyshelf logs", show.Count(r.Restarts, "restart", "restarts"))
		}
		a.row("since", "%s (%s)%s", show.When(r.Since), show.Since(time.Since(r.Since)), restarts)
	}
	if r.Last != nil {
		a.row("deployed", "%s by %s (%s): %s, %s", show.When(r.Last.BegunAt), r.Last.Who, r.Last.Command, r.Last.What,
			r.Last.Outcome)
	}
	for _, d := range r.Drift {
		a.row("by hand", "%s; cozyshelf deploy puts it back", d)
	}
	if !r.AsFile {
		why := strings.Join(r.Changes, "; ")
		if why == "" {
			why = "the household file or the program differs"
		}
		a.row("to deploy", "%s; see cozyshelf deploy --dry-run", why)
	}
}

// showServer shows what the server says of itself.
func (a *app) showServer(r *statusReport) {
	st := r.Server
	a.row("uses", "%s of %s memory, %.0f %% of a processor core; %s free for the state", show.Size(st.Memory),
		show.Size(r.Limit), r.Processor*100, show.Size(st.Free))
	if st.Ready {
		a.row("members", "%d", st.Members)
		if st.Members == 0 {
			a.row("next", "cozyshelf member add NAME --role admin")
		}
	}
	if d := st.Door; d.Most > 0 {
		turned := ""
		if d.Turned > 0 {
			turned = fmt.Sprintf("; %s gave way to others or found no room",
				show.Count(int(d.Turned), "one", "of them"))
		}
		a.row("connections", "%d now, %d at the busiest, room for %d%s; %s being sent, at most %d to a "+
			"member", d.Connections,
			d.Peak, d.Most, turned, show.Count(d.Deliveries, "file", "files"), d.MostEach)
	}
	if q := st.Quiet; q != nil {
		var left []string
		for _, w := range q.Work {
			left = append(left, fmt.Sprintf("%s: %s left", w, show.Count(q.Left[w], "file", "files")))
		}
		text := strings.Join(left, ", ")
		if q.Problem != "" {
			text += "; " + show.Mark("warning") + " " + q.Problem
		}
		a.row("quiet hours", "%s; %s", q.Hours, text)
	}
	a.showConverting(st.Convert)
	if c := st.Certificate; c != nil {
		l := ownHTTPS(*c)
		text := show.Clean(l.Says)
		if l.Status != verdict.OK {
			text = show.Mark("warning") + " " + text
		}
		a.row("https", "%s", text)
	}
	if b := st.Backup; b != nil {
		a.row("backups", "every %s in %s, %d of %d there; last %s, next %s", b.Every, b.Folder, b.Kept, b.Keep,
			show.When(b.Last), show.When(b.Next))
		if b.Problem != "" {
			a.row("", "the last one failed: %s", b.Problem)
		}
	}
}

// showConverting shows how pictures are made anew, and which are being made.
func (a *app) showConverting(c *control.Converting) {
	if c == nil {
		return
	}
	if c.Problem != "" {
		a.row("converting", "%s nothing can be converted: %s", show.Mark("warning"), show.Clean(c.Problem))
		return
	}
	var ways, broken []string
	for _, w := range c.Ways {
		if w.Why != "" {
			broken = append(broken, fmt.Sprintf("%s does not work: %s", show.Clean(w.Name), show.Clean(w.Why)))
			continue
		}
		ways = append(ways, show.Clean(w.Name))
	}
	measured := "not measured yet, see cozyshelf capacity"
	if !c.Measured.IsZero() {
		measured = "measured " + show.When(c.Measured)
	}
	if len(ways) == 0 {
		a.row("converting", "it tries what works here")
		return
	}
	a.row("converting", "by %s; up to %s at once; %s", strings.Join(ways, ", "),
		show.Count(c.AtOnce, "picture", "pictures"), measured)
	for _, b := range broken {
		a.row("", "%s %s", show.Mark("warning"), b)
	}
	for _, s := range c.Streams {
		speed := ""
		if s.Speed > 0 {
			speed = fmt.Sprintf(", %.1f times as fast as it is watched", s.Speed)
		}
		a.row("", "%s: %d lines, %.1f Mbit/s, by %s for %s%s", show.Clean(s.Title), s.Height, float64(s.Bitrate)/1e6,
			show.Clean(s.Way), show.Count(s.Viewers, "device", "devices"), speed)
	}
}

func (a *app) showMounts(list []mountReport) {
	if len(list) == 0 {
		return
	}
	inside := slices.ContainsFunc(list, func(m mountReport) bool { return m.Inside != "" })
	columns := []show.Column{{Head: "mount"}, {Head: "on this machine"}, {Head: "inside", Drop: 1},
		{Head: "to", Drop: 2}, {Head: "access", Whole: true}, {Head: "", Most: 80, Drop: 3}}
	if !inside {
		columns = slices.Delete(columns, 2, 3)
	}
	rows := [][]string{}
	for _, m := range list {
		to := "read"
		if m.Write {
			to = "change"
		}
		cells := []string{m.What, m.Host, m.Inside, to, string(m.Verdict), m.Says}
		if !inside {
			cells = slices.Delete(cells, 2, 3)
		}
		rows = append(rows, cells)
	}
	a.out.Printf("\n")
	a.out.Table(columns, rows)
}
