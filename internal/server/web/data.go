package web

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// What members take along. Times are RFC 3339, durations and positions seconds.
type (
	ownData struct {
		Household string         `json:"household"`
		Taken     time.Time      `json:"taken_at"`
		Member    ownMember      `json:"member"`
		Devices   []store.Device `json:"devices"`
		Days      []ownDay       `json:"watched"`
		Positions []ownPosition  `json:"positions"`
		Plays     []struct{}     `json:"plays"` // they follow one by one: there may be very many
	}
	ownMember struct {
		Name    string     `json:"name"`
		Role    string     `json:"role"`
		Away    bool       `json:"away"`
		Created time.Time  `json:"created_at"`
		Factor  *time.Time `json:"second_factor_at,omitempty"`
		Bounds  any        `json:"allowance"`

		Passkeys []ownKey        `json:"passkeys"`
		Changes  []ownChangeKept `json:"sign_in_changes"`
		Feed     time.Time       `json:"feed_at,omitzero"` // since when there are secret addresses of what arrives
		Made     time.Time       `json:"password_ends_at,omitzero"`
	}
	ownKey struct {
		Name    string    `json:"name"`
		For     string    `json:"for"`
		Created time.Time `json:"created_at"`
		Used    time.Time `json:"used_at,omitzero"`
	}
	ownChangeKept struct {
		At      time.Time `json:"at"`
		What    string    `json:"what"`
		About   string    `json:"about,omitempty"`
		By      string    `json:"by,omitempty"`
		Address string    `json:"address,omitempty"`
	}
	ownDay struct {
		Day     string  `json:"day"`
		Watched float64 `json:"watched"`
		Fetched float64 `json:"fetched"`
	}
	ownPosition struct {
		Shelf    string    `json:"shelf"`
		Title    string    `json:"title"`
		Part     string    `json:"part,omitempty"`
		Position float64   `json:"position"`
		Updated  time.Time `json:"updated_at"`
	}
)

// playsAtOnce is how many plays are read at a time.
const playsAtOnce = 500

// eachPlay gives all plays of the member of a request, the latest first: since there is an account of this
// name, so that nobody gets those of an earlier one.
func (s *Web) eachPlay(r *http.Request, do func(usage.Play) error) error {
	m, err := s.Store.Member(r.Context(), live.VisitorOf(r).Member.Name)
	if err != nil {
		return err
	}
	f := usage.Filter{Member: m.Name, Since: m.Created, Limit: playsAtOnce}
	for {
		list, err := s.Store.Plays(r.Context(), f)
		if err != nil {
			return err
		}
		for _, p := range list {
			if store.Fold(p.Member) != store.Fold(m.Name) {
				p.Device, p.Address = "", "" // those are another's, on whose sofa they sat
			}
			if err := do(p); err != nil {
				return err
			}
		}
		if len(list) < playsAtOnce {
			return nil
		}
		last := list[len(list)-1]
		f.After = last.ID
	}
}

// sent names a file that a browser keeps.
func sent(w http.ResponseWriter, kind, name string) {
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Disposition", "attachment; filename="+strconv.Quote(name))
}

// dataOwn sends all that is kept of a member, as JSON.
func (s *Web) dataOwn(w http.ResponseWriter, r *http.Request) error {
	ctx, v, now := r.Context(), live.VisitorOf(r), time.Now().In(s.Zone).Truncate(time.Second)
	m, err := s.Store.Member(ctx, v.Member.Name)
	if err != nil {
		return err
	}
	d := ownData{Household: s.Settings.Name, Taken: now, Member: ownMember{Name: m.Name, Role: string(m.Role),
		Away:    m.Away,
		Created: m.Created, Bounds: m.Allowed}, Devices: []store.Device{}, Days: []ownDay{}, Positions: []ownPosition{},
		Plays: []struct{}{}}
	if f, err := s.Store.Factor(ctx, m.ID); err == nil {
		d.Member.Factor = &f.Created
	}
	keys, err := s.Store.Passkeys(ctx, m.ID)
	if err != nil {
		return err
	}
	d.Member.Passkeys = []ownKey{}
	for _, k := range keys {
		d.Member.Passkeys = append(d.Member.Passkeys, ownKey{k.Name, k.Place, k.Created, k.Used})
	}
	changes, err := s.Store.ChangesOf(ctx, m.ID, store.MostChanges)
	if err != nil {
		return err
	}
	if d.Member.Feed, err = s.Store.FeedSince(ctx, m.ID); err != nil {
		return err
	}
	d.Member.Changes, d.Member.Made = []ownChangeKept{}, m.MadeUntil
	for _, c := range changes {
		d.Member.Changes = append(d.Member.Changes, ownChangeKept{c.At, string(c.What), c.About, c.Called, c.Address})
	}
	devices, err := s.Store.DevicesOf(ctx, m.ID, now)
	if err != nil {
		return err
	}
	d.Devices = append(d.Devices, devices...)
	days, err := s.Store.WatchedDays(ctx, m.ID)
	if err != nil {
		return err
	}
	for _, day := range days {
		d.Days = append(d.Days, ownDay{day.Day, day.Watched.Seconds(), day.Fetched.Seconds()})
	}
	if err := s.Store.Positions(ctx, m.ID, func(p store.Position) error {
		d.Positions = append(d.Positions, ownPosition(p))
		return nil
	}); err != nil {
		return err
	}
	b, err := json.MarshalIndent(d, "", " ")
	if err != nil {
		return err
	}
	sent(w, "application/json", "cozy-shelf-"+m.Name+".json")
	out := bufio.NewWriter(w)
	head, ok := strings.CutSuffix(string(b), "[]\n}")
	if !ok {
		return fmt.Errorf("what is kept of a member ends in %q", b[max(0, len(b)-20):])
	}
	_, _ = io.WriteString(out, head+"[")
	n := 0
	err = s.eachPlay(r, func(p usage.Play) error {
		b, err := json.Marshal(p)
		if err != nil {
			return err
		}
		if n++; n > 1 {
			_ = out.WriteByte(',')
		}
		_, err = out.Write(append([]byte("\n  "), b...))
		return err
	})
	if err != nil {
		s.Log.Warn("a member's data could not be sent to the end", "why", err)
		panic(http.ErrAbortHandler) // half of it must not look whole
	}
	_, _ = io.WriteString(out, "]\n}\n")
	_ = out.Flush() // the client has gone, if this fails
	return nil
}

// playsOwn sends a member's plays as CSV (RFC 4180).
func (s *Web) playsOwn(w http.ResponseWriter, r *http.Request) error {
	sent(w, "text/csv; charset=utf-8", "cozy-shelf-plays-"+live.VisitorOf(r).Member.Name+".csv")
	out := csv.NewWriter(w)
	out.UseCRLF = true
	_ = out.Write(usage.Columns)
	err := s.eachPlay(r, func(p usage.Play) error { return out.Write(p.Row(s.Zone)) })
	if err != nil {
		s.Log.Warn("a member's plays could not be sent to the end", "why", err)
		panic(http.ErrAbortHandler)
	}
	out.Flush()
	return nil
}
