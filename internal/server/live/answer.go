package live

import (
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"syscall"
	"time"

	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

// Answer makes a handler of a function that gives a document or a problem.
func Answer(do func(*http.Request) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		v, err := do(r)
		if err != nil {
			Fail(w, err)
			return
		}
		reply(w, http.StatusOK, v)
	}
}

// Fail answers with a problem and the status that fits it.
func Fail(w http.ResponseWriter, err error) {
	status := http.StatusInternalServerError
	var st *StatusError
	switch {
	case errors.As(err, &st):
		status = st.Status
		if st.Wait > 0 {
			w.Header().Set("Retry-After", strconv.Itoa(int(st.Wait.Seconds())+1))
		}
	case errors.Is(err, store.ErrFull), errors.Is(err, syscall.ENOSPC):
		status = http.StatusInsufficientStorage
		err = &problem.Problem{What: "nothing can be kept now", Why: "the disk with the server's state is full",
			Fix: "the administrator has to free some space; what is there plays on", Err: err}
	case errors.Is(err, store.ErrDamaged):
		status = http.StatusServiceUnavailable
		err = &problem.Problem{What: "the store is damaged", Why: "what it holds cannot be trusted",
			Fix: "the administrator finds what to do with cozyshelf status", Err: err}
	case errors.Is(err, store.ErrNotFound):
		status = http.StatusNotFound
	case errors.Is(err, store.ErrExists):
		status = http.StatusConflict
	case problem.Code(err) == problem.ExitUsage:
		status = http.StatusBadRequest
	}
	reply(w, status, problem.Of(err))
}

// StatusError is a problem with the status that it is answered with.
type StatusError struct {
	*problem.Problem
	Status int
	Wait   time.Duration
}

func (e *StatusError) Unwrap() error { return e.Problem }

func Read(r *http.Request, v any) error { return ReadUpTo(r, v, 64<<10) }

func ReadUpTo(r *http.Request, v any, most int64) error {
	d := json.NewDecoder(http.MaxBytesReader(nil, r.Body, most))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return &StatusError{Problem: &problem.Problem{What: "the request cannot be read", Why: err.Error(),
			Fix: "send one JSON document as /api/v1/openapi.json says"}, Status: http.StatusBadRequest, Wait: 0}
	}
	return nil
}

func UsageProblem(what, why, fix string) error {
	return &problem.Problem{What: what, Why: why, Fix: fix, Exit: problem.ExitUsage}
}

// reply writes a JSON document.
func reply(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	// The client has gone, if this fails.
	_ = json.NewEncoder(w).Encode(v)
}

// Number reads an id from the path. What is no number is as unknown as a number
// that nothing has.
func Number(r *http.Request, name string) (int64, error) {
	n, err := strconv.ParseInt(r.PathValue(name), 10, 64)
	if err != nil {
		return 0, Nothing(r)
	}
	return n, nil
}

func Nothing(r *http.Request) error {
	return &StatusError{Problem: &problem.Problem{What: "there is nothing at this address", Where: r.URL.Path,
		Why: "it is not on any shelf, or not any more", Fix: "look at the shelves again"}, Status: http.StatusNotFound,
		Wait: 0}
}
