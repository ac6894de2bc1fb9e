package api

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/intake"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/rename"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/server/live"

	"golang.org/x/sys/unix"
)

// The version of the protocol for uploads that continue where they were cut off (tus.io), and
// what of it there is here.
const (
	tusVersion    = "1.0.0"
	tusExtensions = "creation,termination"
)

// uploadStall is for how long an upload may say nothing.
const uploadStall = 30 * time.Second

// uploads adds the handlers of uploads.
func (s *API) uploads(m *http.ServeMux) {
	m.HandleFunc("OPTIONS /api/v1/intake/{shelf}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Tus-Resumable", tusVersion)
		w.Header().Set("Tus-Version", tusVersion)
		w.Header().Set("Tus-Extension", tusExtensions)
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("POST /api/v1/intake/{shelf}", s.SignedIn(s.tus(s.beginUpload)))
	m.HandleFunc("HEAD /api/v1/intake/{shelf}/{job}", s.SignedIn(s.tus(s.uploadState)))
	m.HandleFunc("PATCH /api/v1/intake/{shelf}/{job}", s.SignedIn(s.tus(s.uploadPart)))
	m.HandleFunc("DELETE /api/v1/intake/{shelf}/{job}", s.SignedIn(s.tus(s.endUpload)))
}

// tus does what all requests of an upload have in common: the version, and whether this
// member may bring things onto this shelf.
func (s *API) tus(do func(w http.ResponseWriter, r *http.Request, sh blueprint.SettingsShelf) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Tus-Resumable", tusVersion)
		if r.Header.Get("Tus-Resumable") != tusVersion {
			w.Header().Set("Tus-Version", tusVersion)
			live.Fail(w, &live.StatusError{Problem: &problem.Problem{What: "this version of uploads is not known",
				Why: fmt.Sprintf("the request says %q", r.Header.Get("Tus-Resumable")), Fix: "send Tus-Resumable: " +
					tusVersion}, Status: http.StatusPreconditionFailed, Wait: 0})
			return
		}
		sh, err := s.MayBring(r)
		if err == nil {
			err = do(w, r, sh)
		}
		if err != nil {
			live.Fail(w, s.uploadFault(err))
		}
	}
}

func (s *API) uploadFault(err error) error {
	var st *live.StatusError
	switch {
	case errors.As(err, &st):
		return err
	case errors.Is(err, intake.ErrBusy):
		return &live.StatusError{Problem: &problem.Problem{What: "somebody sends it already",
			Why: "two at once would mix it up", Fix: "wait, and ask how far it is"}, Status: http.StatusLocked, Wait: 0}
	case errors.Is(err, fs.ErrNotExist):
		return &live.StatusError{Problem: &problem.Problem{What: "there is no such upload",
			Why: "it was ended, or never begun", Fix: "begin anew"}, Status: http.StatusNotFound, Wait: 0}
	case errors.Is(err, unix.ENOSPC):
		return &live.StatusError{Problem: &problem.Problem{What: "the disk of the shelf is full",
			Fix: "the administrator has to free some space; what came is kept", Err: err},
			Status: http.StatusInsufficientStorage, Wait: 0}
	case errors.Is(err, fs.ErrPermission), errors.Is(err, unix.EROFS):
		return &live.StatusError{Problem: &problem.Problem{What: "the server may not write to the shelf",
			Why: err.Error(), Fix: "cozyshelf access shows why", Err: err}, Status: http.StatusForbidden, Wait: 0}
	}
	return err
}

// beginUpload begins an upload (tus: creation).
func (s *API) beginUpload(w http.ResponseWriter, r *http.Request, sh blueprint.SettingsShelf) error {
	size, err := strconv.ParseInt(r.Header.Get("Upload-Length"), 10, 64)
	if err != nil || size < 0 {
		return live.UsageProblem("the upload's length cannot be read",
			fmt.Sprintf("Upload-Length is %q", r.Header.Get("Upload-Length")), "send the number of bytes")
	}
	name := ""
	for _, pair := range strings.Split(r.Header.Get("Upload-Metadata"), ",") {
		key, value, _ := strings.Cut(strings.TrimSpace(pair), " ")
		if key != "filename" {
			continue
		}
		b, err := base64.StdEncoding.DecodeString(value)
		if err != nil {
			return live.UsageProblem("the file's name cannot be read", err.Error(),
				"send filename in Upload-Metadata, in base64")
		}
		name = string(b)
	}
	if name == "" {
		return live.UsageProblem("the file has no name", "Upload-Metadata has no filename", "send it, in base64")
	}
	to := intake.Safe(name)
	if why := intake.Takes(sh.Kind, to); why != "" {
		return &live.StatusError{Problem: &problem.Problem{What: to + " cannot go on this shelf", Why: why,
			Fix: "choose another shelf"}, Status: http.StatusUnsupportedMediaType, Wait: 0}
	}
	folder := sh.Folders[0]
	if why := s.Presence.Why(folder); why != "" {
		return &live.StatusError{Problem: &problem.Problem{What: "the shelf's folder is unplugged", Why: why,
			Fix: "try again when it is back"}, Status: http.StatusServiceUnavailable, Wait: 0}
	}
	var j *intake.Job
	who := live.VisitorOf(r).Member.Name
	err = s.Grant(who, folder, size, func() (err error) {
		j, err = intake.Begin(folder, intake.Job{ID: intake.NewID(), Way: intake.Upload, Shelf: sh.Name,
			Folder: sh.Shown[0], Who: who, Began: time.Now(),
			Files: []intake.File{{Source: name, To: to, Held: "1", Size: size, State: intake.Waiting}}})
		return err
	})
	if err != nil {
		return err
	}
	defer j.Close()
	f, err := os.OpenFile(j.Path(&j.Files[0]), os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	s.Events.Tell(event.UploadBegun{Member: j.Who, Shelf: sh.Name, File: to, Bytes: size})
	w.Header().Set("Location", fmt.Sprintf("/api/v1/intake/%s/%s", sh.Name, j.ID))
	w.Header().Set("Upload-Offset", "0")
	w.WriteHeader(http.StatusCreated)
	return nil
}

// upload opens the job of a request: one's own, or any for an administrator.
func (s *API) upload(r *http.Request, sh blueprint.SettingsShelf) (*intake.Job, error) {
	read, err := intake.Read(sh.Folders[0], r.PathValue("job"))
	if err != nil {
		return nil, err
	}
	defer read.Close()
	if m := live.VisitorOf(r).Member; read.Way != intake.Upload || read.Shelf != sh.Name || read.Who != m.Name &&
		m.Role != allowance.Admin {
		return nil, fs.ErrNotExist
	}
	return intake.Open(sh.Folders[0], r.PathValue("job"))
}

// uploadState tells how far an upload is.
func (s *API) uploadState(w http.ResponseWriter, r *http.Request, sh blueprint.SettingsShelf) error {
	j, err := s.upload(r, sh)
	if err != nil {
		return err
	}
	defer j.Close()
	w.Header().Set("Upload-Offset", fmt.Sprint(j.Files[0].Done))
	w.Header().Set("Upload-Length", fmt.Sprint(j.Files[0].Size))
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	return nil
}

// uploadPart takes bytes in. Once all are there, the file is checked and put on the shelf.
func (s *API) uploadPart(w http.ResponseWriter, r *http.Request, sh blueprint.SettingsShelf) error {
	if r.Header.Get("Content-Type") != "application/offset+octet-stream" {
		return &live.StatusError{Problem: &problem.Problem{What: "the part cannot be taken",
			Why: fmt.Sprintf("its type is %q", r.Header.Get("Content-Type")),
			Fix: "send application/offset+octet-stream"}, Status: http.StatusUnsupportedMediaType, Wait: 0}
	}
	end, err := s.Takes()
	if err != nil {
		return err
	}
	defer end()
	j, err := s.upload(r, sh)
	if err != nil {
		return err
	}
	defer j.Close()
	f := &j.Files[0]
	at, err := strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64)
	if err != nil || at != f.Done {
		return &live.StatusError{Problem: &problem.Problem{What: "the part does not follow on what is there",
			Why: fmt.Sprintf("%d bytes are there, and the part begins at %q", f.Done, r.Header.Get("Upload-Offset")),
			Fix: "ask how far it is, and continue from there"}, Status: http.StatusConflict, Wait: 0}
	}
	f.State, j.State = intake.Coming, intake.Coming
	if err := s.take(w, r, j, f); err != nil {
		return err
	}
	if f.Done == f.Size {
		if err := s.put(r.Context(), sh, j, f); err != nil {
			return err
		}
	}
	w.Header().Set("Upload-Offset", fmt.Sprint(f.Done))
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// take writes what comes to the end of what is held. What it says is there, is on the
// disk; also where the sender goes away in its midst.
func (s *API) take(w http.ResponseWriter, r *http.Request, j *intake.Job, f *intake.File) error {
	out, err := os.OpenFile(j.Path(f), os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer out.Close()
	c := http.NewResponseController(w)
	b := make([]byte, 256<<10)
	done, saved := f.Done, time.Now()
	save := func() error {
		if err := out.Sync(); err != nil {
			return err
		}
		f.Done = done
		return j.Save()
	}
	for {
		// Others may fill the disk, too.
		if free, err := intake.Free(filepath.Dir(j.Path(f))); err == nil && free < intake.Reserve {
			full := &problem.Problem{What: "the disk of the shelf is full",
				Fix: "the administrator has to free some space; what came is kept"}
			return errors.Join(save(), &live.StatusError{Problem: full, Status: http.StatusInsufficientStorage})
		}
		_ = c.SetReadDeadline(time.Now().Add(uploadStall)) // without it, it only lasts longer
		n, rerr := r.Body.Read(b)
		if done+int64(n) > f.Size {
			return errors.Join(save(), &live.StatusError{Problem: &problem.Problem{What: "there is more than was said",
				Why: fmt.Sprintf("it was to have %d bytes", f.Size), Fix: "begin anew with the right length"},
				Status: http.StatusRequestEntityTooLarge, Wait: 0})
		}
		if _, err := out.WriteAt(b[:n], done); err != nil {
			return errors.Join(err, save())
		}
		if done += int64(n); rerr == nil && time.Since(saved) < 2*time.Second {
			continue
		}
		if err := save(); err != nil {
			return err
		}
		saved = time.Now()
		switch {
		case errors.Is(rerr, io.EOF):
			return nil
		case rerr != nil:
			return &live.StatusError{Problem: &problem.Problem{What: "the part was cut off", Why: rerr.Error(),
				Fix: "ask how far it is, and continue from there"}, Status: http.StatusBadRequest, Wait: 0}
		}
	}
}

// put checks what came in whole and puts it on the shelf, as one entry of the ledger.
func (s *API) put(ctx context.Context, sh blueprint.SettingsShelf, j *intake.Job, f *intake.File) error {
	ctx = context.WithoutCancel(ctx) // whoever sent it may go; it is all here
	unfit := func(why string) error {
		s.Events.Tell(event.UploadUnfit{Member: j.Who, Shelf: sh.Name, File: f.To, Why: why})
		p := &problem.Problem{What: f.To + " cannot go on the shelf", Why: why,
			Fix: "see whether the file is whole and what it should be; the administrator finds it with cozyshelf " +
				"intake list"}
		return errors.Join(j.Fail(f, why),
			&live.StatusError{Problem: p, Status: http.StatusUnprocessableEntity, Wait: 0})
	}
	in, err := os.Open(j.Path(f))
	if err != nil {
		return err
	}
	why := intake.Check(in, sh.Kind, f.To)
	in.Close()
	if why != "" {
		return unfit(why)
	}
	f.To = intake.Name(sh.Kind, f.To)
	f.State, j.State = intake.Held, intake.Held
	steps, err := j.Steps(sh.Folders[0], func(size int64) ([]string,
		error) {
		return s.Store.OfSize(ctx, sh.Name, sh.Shown[0], size)
	})
	if err != nil {
		return err
	}
	if f.State == intake.Failed {
		return unfit(f.Why)
	}
	if len(steps) > 0 {
		o, err := rename.Carrier{Folder: sh.Folders[0]}.Carry(steps)
		if err != nil {
			return err
		}
		if len(o.Odd) > 0 {
			return unfit(o.Odd[0].Why)
		}
		// What root would follow to undo it is not for the server to write; the tool works
		// it out from this.
		for _, st := range steps {
			if st.Op != rename.Move {
				continue
			}
			err := ledger.Tell(s.Settings.State,
				ledger.Told{At: time.Now(), Who: j.Who, Shelf: sh.Name, Folder: sh.Shown[0],
					File: ledger.Uploaded{Job: j.ID, Held: f.Held, To: f.To, Size: st.Size, MTime: st.MTime}})
			if err != nil { // it is on the shelf all the same
				s.Log.Error("the ledger is not told of an upload", "file", f.To, "why", err)
			}
		}
	}
	s.Events.Tell(event.UploadPlaced{Member: j.Who, Shelf: sh.Name, File: f.To, Known: f.Why != ""})
	if err := j.Discard(); err != nil {
		s.Log.Warn("the holding folder could not be removed", "why", err)
	}
	if _, err := s.Scan(ctx, sh.Name, scan.Options{}); err != nil {
		s.Log.Error("a scan failed", "shelf", sh.Name, "why", err)
	}
	return nil
}

// endUpload throws an upload away (tus: termination).
func (s *API) endUpload(w http.ResponseWriter, r *http.Request, sh blueprint.SettingsShelf) error {
	j, err := s.upload(r, sh)
	if err != nil {
		return err
	}
	if err := j.Discard(); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
