// Package admin answers the administrator's tool, on the control socket. Its documents are
// those of package control.
package admin

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path"
	"slices"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/library"
	"cozyshelf/internal/core/today"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"

	"golang.org/x/sys/unix"
)

// Admin answers whoever may open the control socket.
type Admin struct{ *live.Server }

// control is the handler of the control socket.
func (s *Admin) Handler() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /healthz", func(w http.ResponseWriter, r *http.Request) { s.Healthz(w, r, true) })
	m.HandleFunc("POST /control/v1/backup", s.sendBackup)
	m.HandleFunc("GET /control/v1/status", live.Answer(s.Status))
	m.HandleFunc("POST /control/v1/visits", live.Answer(func(*http.Request) (any, error) {
		return control.Visit{Token: s.Visits.Announce(time.Now())}, nil
	}))
	m.HandleFunc("GET /control/v1/visits/{token}", live.Answer(func(r *http.Request) (any, error) {
		return control.Visit{Token: r.PathValue("token"), Arrived: s.Visits.Seen(r.PathValue("token"))}, nil
	}))
	m.HandleFunc("GET /control/v1/members",
		live.Answer(func(r *http.Request) (any, error) {
			list, err := s.Store.Members(r.Context())
			return listed(list, err, memberOf)
		}))
	m.HandleFunc("GET /control/v1/members/{name}", live.Answer(s.showMember))
	m.HandleFunc("DELETE /control/v1/members/{name}/devices/{device}", live.Answer(s.endDevice))
	m.HandleFunc("GET /control/v1/invites", live.Answer(s.invites))
	m.HandleFunc("POST /control/v1/invites", live.Answer(s.invite))
	m.HandleFunc("DELETE /control/v1/invites/{name}", live.Answer(s.takeBack))
	m.HandleFunc("GET /control/v1/outside", live.Answer(func(*http.Request) (any, error) {
		return control.Outside{Closed: s.OutsideClosed()}, nil
	}))
	m.HandleFunc("POST /control/v1/outside/close", live.Answer(func(r *http.Request) (any, error) {
		var in control.Closing
		if err := live.Read(r, &in); err != nil {
			return nil, err
		}
		n, err := s.CloseOutside(in.Now)
		return control.Outside{Closed: s.OutsideClosed(), Ended: n}, err
	}))
	m.HandleFunc("POST /control/v1/outside/open", live.Answer(func(*http.Request) (any, error) {
		return control.Outside{}, s.OpenOutside()
	}))
	m.HandleFunc("POST /control/v1/name/look", live.Answer(func(r *http.Request) (any, error) {
		if !s.LookAtName() {
			return nil, live.Nothing(r)
		}
		return struct{}{}, nil
	}))
	m.HandleFunc("GET /control/v1/keys", live.Answer(func(r *http.Request) (any, error) {
		list, err := s.Store.Keys(r.Context())
		return listed(list, err, keyOf)
	}))
	m.HandleFunc("POST /control/v1/keys", live.Answer(s.addKey))
	m.HandleFunc("DELETE /control/v1/keys/{name}", live.Answer(func(r *http.Request) (any, error) {
		return struct{}{}, s.DropKey(r.Context(), r.PathValue("name"))
	}))
	m.HandleFunc("GET /control/v1/notices", live.Answer(s.receivers))
	m.HandleFunc("POST /control/v1/notices/{name}/test", live.Answer(s.tryReceiver))
	m.HandleFunc("GET /control/v1/notices/{name}/pending", live.Answer(s.pending))
	m.HandleFunc("POST /control/v1/notices/{name}/told", live.Answer(s.told))
	m.HandleFunc("POST /control/v1/members", live.Answer(s.addMember))
	m.HandleFunc("PATCH /control/v1/members/{name}", live.Answer(s.changeMember))
	m.HandleFunc("DELETE /control/v1/members/{name}", live.Answer(s.removeMember))
	m.HandleFunc("GET /control/v1/shelves/{name}", s.showShelf)
	m.HandleFunc("POST /control/v1/scan", live.Answer(s.scanNow))
	m.HandleFunc("GET /control/v1/library",
		live.Answer(func(r *http.Request) (any, error) {
			l, err := s.Store.Library(r.Context(), 12)
			return libraryOf(l), err
		}))
	m.HandleFunc("GET /control/v1/problems", s.problems)
	m.HandleFunc("GET /control/v1/titles/{title}", live.Answer(s.matched))
	m.HandleFunc("POST /control/v1/titles/{title}/match", live.Answer(s.match))
	m.HandleFunc("GET /control/v1/search", live.Answer(func(r *http.Request) (any, error) {
		list, err := s.Search(r)
		return listed(list, err, hitOf)
	}))
	m.HandleFunc("GET /control/v1/watched",
		live.Answer(func(r *http.Request) (any, error) {
			list, err := s.Store.Watched(r.Context())
			return listed(list, err, func(f store.WatchedFile) control.WatchedFile { return control.WatchedFile(f) })
		}))
	m.HandleFunc("GET /control/v1/plays", live.Answer(s.plays))
	m.HandleFunc("GET /control/v1/figures/top", live.Answer(s.top))
	m.HandleFunc("GET /control/v1/figures/chart", live.Answer(s.chart))
	m.HandleFunc("GET /control/v1/figures/report", live.Answer(s.report))
	m.HandleFunc("GET /control/v1/figures/titles",
		live.Answer(func(r *http.Request) (any, error) { return s.WatchedTitles(r.Context()) }))
	m.HandleFunc("POST /control/v1/figures/verify", live.Answer(s.verify))
	m.HandleFunc("POST /control/v1/plays/{play}/stop", live.Answer(s.stopPlay))
	m.HandleFunc("GET /control/v1/capacity",
		live.Answer(func(*http.Request) (any, error) { return s.Measured() }))
	m.HandleFunc("POST /control/v1/capacity", s.measure)
	m.HandleFunc("GET /control/v1/prepared", live.Answer(s.prepared))
	m.HandleFunc("POST /control/v1/prepared", live.Answer(s.prepare))
	m.HandleFunc("DELETE /control/v1/prepared/{copy}", live.Answer(s.cancelPrepared))
	return m
}

func (s *Admin) Status(r *http.Request) (any, error) {
	ctx := r.Context()
	out := control.Status{Version: s.Version, Started: s.Started, Ready: true, Shelves: []control.Shelf{},
		Today:  []today.Line{},
		Memory: Resident()}
	out.Processor, out.Jobs, out.Listeners = Processor(), s.Jobs.Status(), s.Listening()
	out.Door = s.Door.Status()
	if k := s.Certificate; k != nil {
		c := control.Certificate(k.Report(time.Now()))
		out.Certificate = &c
	}
	out.Name = s.NameReport()
	out.Door.Deliveries, out.Door.MostEach = s.Cuts.Count(), live.MostDeliveries
	out.Free, _ = live.FreeBytes(s.Settings.State) // 0 where it cannot be told
	h := s.Condition(ctx)
	out.Condition = h.Status
	if h.Status != control.Ready {
		out.Ready, out.Problem, out.Fix = false, h.What+": "+h.Why, h.Fix
		return out, nil
	}
	out.Backup, out.Convert = s.BackupStatus(), s.ConvertStatus(ctx)
	members, err := s.Store.Members(ctx)
	if err != nil {
		return nil, err
	}
	open, err := s.Store.Plays(ctx, usage.Filter{Open: true})
	if err != nil {
		return nil, err
	}
	out.Members, out.Streams = len(members), len(open)
	if out.Format, err = s.Store.Format(ctx); err != nil {
		return nil, err
	}
	if out.Quiet, err = s.QuietStatus(ctx); err != nil {
		return nil, err
	}
	if out.Today, err = s.Today(ctx); err != nil {
		return nil, err
	}
	out.Shelves, err = s.ShelfList(ctx)
	return out, err
}

// Processor gives the processor time that the server has used, in seconds.
func Processor() float64 {
	var u unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &u) != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano()).Seconds()
}

// Resident gives the memory that the server has in use, in bytes.
func Resident() int64 {
	b, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	var size, pages int64
	fmt.Sscan(string(b), &size, &pages)
	return pages * int64(os.Getpagesize())
}

// showShelf gives a shelf with all that is on it, as control.ShelfFiles, a page of titles
// after the other: a large one would not fit in the server's memory.
func (s *Admin) showShelf(w http.ResponseWriter, r *http.Request) {
	ctx, name := r.Context(), r.PathValue("name")
	list, err := s.ShelfList(ctx)
	if err != nil {
		live.Fail(w, err)
		return
	}
	i := slices.IndexFunc(list, func(sh control.Shelf) bool { return sh.Name == name })
	if i < 0 {
		live.Fail(w, s.NoShelf(name))
		return
	}
	problems, err := s.Store.FolderProblems(ctx, name)
	if err != nil {
		live.Fail(w, err)
		return
	}
	whole, err := json.Marshal(control.ShelfFiles{Shelf: list[i], Contents: []control.TitleFiles{},
		FolderProblems: all(problems, func(p store.FolderProblem) control.FolderProblem {
			return control.FolderProblem(p)
		})})
	if err != nil {
		live.Fail(w, err)
		return
	}
	pour(w, whole, "contents", func(yield func(any) bool) error {
		start := store.PlaceOf("")
		for at := &start; at != nil; {
			page, err := s.Store.TitlePage(ctx, store.Wanted{Shelf: name, At: *at, Limit: live.AtOnce})
			if err != nil {
				return err
			}
			ids := make([]int64, 0, len(page.Titles))
			for _, t := range page.Titles {
				ids = append(ids, t.ID)
			}
			files, err := s.Store.FilesOf(ctx, ids)
			if err != nil {
				return err
			}
			for _, t := range page.Titles {
				if !yield(control.TitleFiles{Title: titleOf(t), Files: all(files[t.ID], fileOf)}) {
					return nil
				}
			}
			at = page.Next
		}
		return nil
	})
}

// pour answers with a document one of whose lists, empty in whole, is written as it
// comes; without a name, the list is all of it. Where that fails in its midst, the answer
// is cut off, and whoever reads it notices.
func pour(w http.ResponseWriter, whole []byte, list string, each func(yield func(any) bool) error) {
	before, after := []byte("["), []byte("]\n")
	if list != "" {
		i := bytes.Index(whole, []byte(`"`+list+`":[]`)) + len(list) + len(`"":[`)
		before, after = whole[:i], whole[i:]
	}
	w.Header().Set("Content-Type", "application/json")
	out := bufio.NewWriterSize(w, 64<<10)
	_, err := out.Write(before)
	first := true
	enc := json.NewEncoder(out)
	if eerr := each(func(v any) bool {
		if !first && err == nil {
			err = out.WriteByte(',')
		}
		if first = false; err == nil {
			err = enc.Encode(v)
		}
		return err == nil
	}); eerr != nil {
		panic(http.ErrAbortHandler)
	}
	if err == nil {
		_, err = out.Write(after)
	}
	if err == nil {
		_ = out.Flush() // the client has gone, if this fails
	}
}

func (s *Admin) scanNow(r *http.Request) (any, error) {
	name := r.URL.Query().Get("shelf")
	if name != "" && s.Shelves[name] == nil {
		return nil, s.NoShelf(name)
	}
	o := scan.Options{Emptied: r.URL.Query().Get("emptied") == "yes", Gently: r.URL.Query().Get("gently") == "yes"}
	if folder := r.URL.Query().Get("folder"); folder != "" {
		sh, part := s.PlaceOf(folder)
		if part == nil {
			return nil, &problem.Problem{What: folder + " is on no shelf",
				Why: "it is neither a shelf's folder nor below one",
				Fix: "see the folders with cozyshelf shelf list --json", Err: store.ErrNotFound}
		}
		name, o.Only = sh, part
	}
	return s.Scan(r.Context(), name, o)
}

// problems finds what somebody should see to, on one shelf or on all.
func (s *Admin) problems(w http.ResponseWriter, r *http.Request) {
	name := r.URL.Query().Get("shelf")
	if name != "" && s.Shelves[name] == nil {
		live.Fail(w, s.NoShelf(name))
		return
	}
	pour(w, nil, "", func(yield func(any) bool) (err error) {
		// What is behind a folder that cannot be listed nobody knows.
		for _, sh := range s.Settings.Shelves {
			if name != "" && sh.Name != name {
				continue
			}
			closed, err := s.Store.FolderProblems(r.Context(), sh.Name)
			if err != nil {
				return err
			}
			for _, f := range closed {
				if !yield(library.Issue{Sort: library.Unreadable, Shelf: sh.Name, Path: path.Join(f.Root, f.Path),
					Says: f.Problem}) {
					return nil
				}
			}
		}
		for p := range library.Problems(func(yield func(library.File) bool) {
			if err == nil {
				err = s.Store.Each(r.Context(), name, yield)
			}
		}, s.Settings.Language) {
			if !yield(p) {
				break
			}
		}
		return err
	})
}

func (s *Admin) addMember(r *http.Request) (any, error) {
	var in control.NewMember
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	m, err := s.Person(in.Name, in.Role, in.Away, in.Allowed)
	if err != nil {
		return nil, err
	}
	if why := secret.Judge(in.Password, in.Name); why != "" {
		return nil, live.UsageProblem("the password cannot be taken", why, "choose a longer one, or let one be made")
	}
	m.Password = s.Keys.Hash(in.Password)
	if in.Made {
		m.MadeUntil = time.Now().Add(live.MadeFor)
	}
	with, tell := s.Telling(r.Context(), event.MemberAdded{Member: m.Name, Role: string(m.Role)})
	m, err = s.Store.AddMember(with, m, time.Now())
	switch {
	case errors.Is(err, store.ErrExists):
		return nil, &problem.Problem{What: fmt.Sprintf("there is a member %s already", in.Name),
			Why: "each person has one account, whatever the case of letters",
			Fix: "choose another name, or see cozyshelf member list", Err: err}
	case errors.Is(err, store.ErrFirstAdmin):
		return nil, live.UsageProblem("the first member must be an administrator",
			"somebody has to look after the household", fmt.Sprintf("cozyshelf member add %s --role admin", in.Name))
	case err != nil:
		return nil, err
	}
	tell()
	return memberOf(m), nil
}

// showMember gives a member with how much it has watched, and its devices.
func (s *Admin) showMember(r *http.Request) (any, error) {
	name := r.PathValue("name")
	all, err := s.Store.Members(r.Context())
	if err != nil {
		return nil, err
	}
	for _, m := range all {
		if store.Fold(m.Name) != store.Fold(name) {
			continue
		}
		out := control.MemberShown{Member: memberOf(m), Signed: []control.MemberDevice{},
			Titles: []control.TitleRule{}, Passkeys: []control.MemberPasskey{}, Password: m.Password != "",
			Made: m.MadeUntil}
		u, v, err := s.Standing(r.Context(), m)
		if err != nil {
			return nil, err
		}
		out.Today, out.Week = u.Today.Seconds(), u.Week.Seconds()
		out.Now, out.Reason, out.Until = v.OK, v.Reason, v.Until
		list, err := s.Store.DevicesOf(r.Context(), m.ID, time.Now())
		for _, d := range list {
			out.Signed = append(out.Signed, control.MemberDevice{ID: d.ID, Name: d.Name, Kind: string(d.Kind),
				Created: d.Created, Seen: d.Seen, Address: d.Address, Away: d.Away, Second: d.Second})
		}
		if err != nil {
			return nil, err
		}
		f, err := s.Store.Factor(r.Context(), m.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		out.Factor = f.Created
		keys, err := s.Store.Passkeys(r.Context(), m.ID)
		if err != nil {
			return nil, err
		}
		for _, k := range keys {
			out.Passkeys = append(out.Passkeys, control.MemberPasskey{Name: k.Name, Place: k.Place, Created: k.Created,
				Used: k.Used})
		}
		rules, err := s.Store.TitleRules(r.Context(), m.ID)
		for _, t := range rules {
			out.Titles = append(out.Titles, control.TitleRule{ID: t.Title, Name: t.Name, Shelf: t.Shelf, Shown: t.Shown})
		}
		return out, err
	}
	return nil, live.NoMember(name, store.ErrNotFound)
}

// endDevice signs a device of a member out, and ends what it is being sent.
func (s *Admin) endDevice(r *http.Request) (any, error) {
	name := r.PathValue("name")
	m, err := s.Store.Member(r.Context(), name)
	if err != nil {
		return nil, live.NoMember(name, err)
	}
	id, err := live.Number(r, "device")
	if err != nil {
		return nil, err
	}
	_, d, err := s.Store.SignedIn(r.Context(), id, time.Now())
	if err == nil && d.Member != m.ID {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		return nil, &problem.Problem{What: fmt.Sprintf("%s has no device %d", m.Name, id), Why: "it is not signed in",
			Fix: "see cozyshelf member devices " + m.Name, Err: err}
	}
	if err != nil {
		return nil, err
	}
	if err := s.Store.RemoveDevice(r.Context(), id); err != nil {
		return nil, err
	}
	s.Cuts.Cut(m.ID)
	return struct{}{}, nil
}

func (s *Admin) changeMember(r *http.Request) (any, error) {
	name := r.PathValue("name")
	var in control.Change
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	// What cannot be taken is refused before anything is changed.
	if in.Password != nil {
		if why := secret.Judge(*in.Password, name); why != "" {
			return nil, live.UsageProblem("the password cannot be taken", why,
				"choose a longer one, or let one be made")
		}
	}
	if in.Role != nil || in.Away != nil || in.Allowed != nil {
		if _, err := s.EditMember(r.Context(), name, store.Edit{Role: in.Role, Away: in.Away,
			Allowed: in.Allowed}); err != nil {
			return nil, err
		}
	}
	if in.ForgetFactor {
		m, err := s.Store.Member(r.Context(), name)
		if err == nil {
			err = s.ForgetFactor(r.Context(), m)
			if errors.Is(err, store.ErrNotFound) {
				return nil, live.UsageProblem(m.Name+" has no second factor", "none was set up", "there is nothing to do")
			}
		}
		if err != nil {
			return nil, live.NoMember(name, err)
		}
	}
	if in.ForgetPasskeys {
		m, err := s.Store.Member(r.Context(), name)
		if err != nil {
			return nil, live.NoMember(name, err)
		}
		if m.Password == "" && in.Password == nil {
			return nil, live.UsageProblem(m.Name+" has no password", "passkeys are the only way in that they have",
				"give a password first: cozyshelf member password "+m.Name)
		}
		if err := s.ForgetPasskeys(r.Context(), m); err != nil {
			return nil, err
		}
	}
	if len(in.Titles) > 0 {
		m, err := s.Store.Member(r.Context(), name)
		if err == nil {
			with, tell := s.Telling(r.Context(), event.MemberChanged{Member: m.Name, Role: string(m.Role),
				Away: m.Away})
			if err = s.Store.RuleTitles(with, m.ID, in.Titles); err == nil {
				tell()
			}
		}
		if err != nil {
			return nil, live.NoMember(name, err)
		}
	}
	if in.Password != nil {
		until := time.Time{}
		if in.Made {
			until = time.Now().Add(live.MadeFor)
		}
		with, tell := s.Telling(r.Context(), event.PasswordChanged{Member: name})
		if err := s.Store.SetPassword(with, name, s.Keys.Hash(*in.Password), until); err != nil {
			return nil, live.NoMember(name, err)
		}
		tell()
		if m, err := s.Store.Member(r.Context(), name); err == nil {
			s.NoteChange(r.Context(), m, store.PasswordSet, "")
		}
	}
	m, err := s.Store.Member(r.Context(), name)
	if err == nil {
		// Streams that are running are judged anew, by what holds now.
		s.Cuts.Cut(m.ID)
	}
	return memberOf(m), live.NoMember(name, err)
}

func (s *Admin) removeMember(r *http.Request) (any, error) {
	return map[string]bool{"removed": true}, s.DropMember(r.Context(), r.PathValue("name"))
}

// stopPlay ends a stream with a word to who watches it.
func (s *Admin) stopPlay(r *http.Request) (any, error) {
	var in control.Stopping
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	id, err := live.Number(r, "play")
	if err != nil {
		return nil, err
	}
	if err := s.StopStream(r.Context(), id, in.Say, "the host"); err != nil {
		return nil, err
	}
	return control.Stopped{Stream: id, Said: in.Say}, nil
}
