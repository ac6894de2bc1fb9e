package admin

import (
	"errors"
	"net/http"
	"slices"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/notice"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// receivers tells how it goes with those who are told of what happens.
func (s *Admin) receivers(r *http.Request) (any, error) {
	list, err := s.Store.Receivers(r.Context())
	if err != nil {
		return nil, err
	}
	out := []control.Receiver{}
	for _, n := range s.Settings.Notices {
		v := control.Receiver{Name: n.Name, To: n.To, Address: n.Address, Events: n.Events, Members: n.Members,
			Quiet: n.Quiet, Gather: n.Gather}
		if i := slices.IndexFunc(list, func(o store.Receiver) bool { return o.Name == n.Name }); i >= 0 {
			o := list[i]
			v.Waiting, v.Took, v.Lost, v.Sent, v.Failures, v.Next, v.Problem, v.Gone = o.Waiting, o.Took, o.Lost, o.Sent,
				o.Failures, o.Next, o.Problem, o.Gone
		}
		if v.Events == nil {
			v.Events = []string{}
		}
		if v.Members == nil {
			v.Members = []string{}
		}
		out = append(out, v)
	}
	return out, nil
}

// noReceiver says that there is no receiver of a name.
func noReceiver(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return live.UsageProblem("there is no such receiver of notices",
			"the household file names none, or it is not deployed yet",
			"see cozyshelf notice list")
	}
	return err
}

// tryReceiver sends a test notice.
func (s *Admin) tryReceiver(r *http.Request) (any, error) {
	k := s.Keeper()
	if k == nil {
		return nil, noReceiver(store.ErrNotFound)
	}
	err := k.Try(r.Context(), r.PathValue("name"))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, live.UsageProblem("the test notice was not taken", notice.Line(err.Error()),
			"mend what it says, and try again; what waits is tried again by itself")
	}
	return struct{}{}, noReceiver(err)
}

// pending gives what waits for a program on the host.
func (s *Admin) pending(r *http.Request) (any, error) {
	k := s.Keeper()
	if k == nil {
		return nil, noReceiver(store.ErrNotFound)
	}
	list, wait, err := k.Pending(r.Context(), r.PathValue("name"))
	if err != nil {
		return nil, noReceiver(err)
	}
	out := control.Pending{IDs: []int64{}, Message: []byte("null"), Wait: wait.Seconds()}
	if len(list) == 0 {
		return out, nil
	}
	for _, w := range list {
		out.IDs = append(out.IDs, w.ID)
	}
	out.Message, err = k.Message(list)
	return out, err
}

// told notes that a program was told.
func (s *Admin) told(r *http.Request) (any, error) {
	var in control.Told
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	k := s.Keeper()
	if k == nil {
		return nil, noReceiver(store.ErrNotFound)
	}
	return struct{}{}, noReceiver(k.Done(r.Context(), r.PathValue("name"), in.IDs, in.Problem))
}
