package operate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/probe"
	"cozyshelf/internal/problem"
)

// Proven is what came of trying one folder of a shelf.
type Proven struct {
	Shelf string
	Host  string
	Write bool
	permit.Proof
}

// trial is what is to be tried, with what was computed of it.
type trial struct {
	spec    probe.Spec
	out     []Proven
	compare []*permit.Proving // nil where nothing can be computed
}

// Prove tries the shelves as the server will: in a throw-away container, or as a child with
// the account's numbers. The engine is given what it needs for that, which is taken away
// again. sample is how many files a folder; 0 for all. Only shelves that wanted names are
// tried, or all where it names none.
func (h *House) Prove(ctx context.Context, sample int, wanted []string) ([]Proven, error) {
	drawn, err := h.Draw(ctx)
	if err != nil {
		return nil, err
	}
	unload, err := h.loaded(ctx, drawn, wanted)
	if err != nil {
		return nil, err
	}
	defer unload()
	return h.prove(ctx, drawn.Blueprint, sample, 0, wanted)
}

// expect says what is to be tried of the shelves, and computes what should come of it.
func (h *House) expect(sample int, within time.Duration, wanted []string) (*trial, error) {
	t := &trial{spec: probe.Spec{Sample: sample, Seed: rand.Uint64(), Within: within, Aside: household.Holding}}
	for _, shelf := range h.Household.Shelves {
		if len(wanted) > 0 && !slices.Contains(wanted, shelf.Name) {
			continue
		}
		for i, folder := range shelf.Folders {
			write := shelf.Access == household.Change
			at := fmt.Sprintf("%s/%s/%d", blueprint.ShelvesInside, shelf.Name, i+1)
			if !h.Facts.Can.Isolates {
				at = folder
			}
			t.spec.Folders = append(t.spec.Folders, probe.Folder{Path: at, Write: write})
			t.out = append(t.out, Proven{Shelf: shelf.Name, Host: folder, Write: write})
			p, err := h.computed(shelf.Name, folder, write, sample > 0)
			if err != nil {
				return nil, err
			}
			t.compare = append(t.compare, p)
		}
	}
	return t, nil
}

// computed computes what the account may do in a folder; nil where it is not of this machine.
func (h *House) computed(shelf, folder string, write, sampled bool) (*permit.Proving, error) {
	if h.Facts.Elsewhere || household.IsShare(folder) {
		return nil, nil
	}
	if machine.Silent(folder) {
		// Whoever is sent in to try would not come back.
		return nil, &problem.Problem{What: "shelf " + shelf + " does not answer, so it cannot be tried", Where: folder,
			Why: machine.ErrSilent.Error(),
			Fix: "see to the disk or the network; the other shelves can be tried by name"}
	}
	var p *permit.Proving
	real, err := machine.Patiently(func() (string, error) { return filepath.EvalSymlinks(folder) })
	if err == nil {
		p = permit.NewProving(real, sampled)
		id, need := h.Facts.Asks(h.Account, write)
		need.Fails = p.Fails
		_, err = machine.Audit(folder, id, need)
	}
	if err != nil {
		return nil, &problem.Problem{What: "a folder of shelf " + shelf + " cannot be looked at", Where: folder,
			Why: err.Error(), Fix: "run cozyshelf check", Err: err}
	}
	return p, nil
}

func (h *House) prove(ctx context.Context, bp blueprint.Blueprint, sample int, within time.Duration,
	wanted []string) ([]Proven, error) {
	t, err := h.expect(sample, within, wanted)
	if err != nil || len(t.out) == 0 {
		return nil, err
	}
	text, err := json.Marshal(t.spec)
	if err != nil {
		return nil, err
	}
	r, w := io.Pipe()
	type ran struct {
		code int
		err  error
	}
	end := make(chan ran, 1)
	c := bp.Server()
	c.Mounts = slices.DeleteFunc(c.Shelves(), func(m blueprint.Mount) bool {
		return len(wanted) > 0 && !slices.Contains(wanted, m.What)
	})
	go func() {
		code, err := h.Engine.Run(ctx, c, []string{"probe", "--spec", string(text)}, w)
		w.CloseWithError(io.EOF)
		end <- ran{code: code, err: err}
	}()
	opened := 0
	sums, err := probe.Read(r, len(t.out), func(n int, tried permit.Trial) {
		if t.compare[n] != nil {
			t.compare[n].Tried(tried)
		}
	}, func(n int) {
		if h.Files != nil {
			h.Files.Add(int64(n - opened))
			opened = n
		}
	})
	r.CloseWithError(err)
	const untried = "the shelves could not be tried"
	if e := <-end; e.err != nil || e.code != 0 {
		why := fmt.Sprintf("it ended with code %d", e.code)
		if e.err != nil {
			why = deploy.Plain(e.err)
		}
		return nil, &problem.Problem{What: untried, Where: h.Facts.Kind, Why: why,
			Fix: "cozyshelf check shows the whole picture", Err: e.err}
	}
	if err != nil {
		return nil, &problem.Problem{What: untried, Where: h.Facts.Kind, Why: err.Error(), Fix: "try again", Err: err}
	}
	for i := range t.out {
		t.out[i].Proof = sums[i]
		t.out[i].Disagreements = []permit.Disagreement{}
		if t.compare[i] != nil {
			t.out[i].Disagreements = t.compare[i].End(func(p string) bool { _, err := os.Lstat(p); return err == nil })
		}
	}
	return t.out, nil
}

// loaded sees to it that the engine has the program, and the volumes of shares,
// for a trial before or without a deployment, and gives what takes away again
// what was not there before.
func (h *House) loaded(ctx context.Context, drawn Drawn, wanted []string) (func(), error) {
	have, err := h.Observe(ctx)
	if err != nil {
		return nil, err
	}
	var undo []func(context.Context)
	if !slices.Contains(have.Images, drawn.Image.Digest) {
		if err := h.Engine.LoadImage(ctx, drawn.Image, h.ID); err != nil {
			return nil, &problem.Problem{What: "the program could not be given to the engine", Where: h.Facts.Kind,
				Why: err.Error(), Fix: "see whether " + h.Facts.Kind + " is well", Err: err}
		}
		undo = append(undo, func(ctx context.Context) {
			_ = h.Engine.RemoveImage(ctx, drawn.Image.Digest, h.ID) // in use by now, or gone: either is fine
		})
	}
	volumes, can := h.Engine.(engine.Volumes)
	for _, v := range drawn.Blueprint.Volumes {
		if slices.Contains(have.Volumes, v.Name) || len(wanted) > 0 && !slices.Contains(wanted, v.Shelf) {
			continue
		}
		if err := deploy.MakeVolume(ctx, h.Engine, v, h.ID); err != nil {
			return nil, err
		}
		if can {
			undo = append(undo, func(ctx context.Context) {
				_ = volumes.RemoveVolume(ctx, v.Name) // the next deployment removes what stays
			})
		}
	}
	return func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer cancel()
		for _, do := range slices.Backward(undo) {
			do(ctx)
		}
	}, nil
}

// How much deploy tries of every shelf.
const (
	deploySample = 64
	deployWithin = time.Second
)

// proveSample is the step of deploy: what cannot be used at all ends it before
// the old container is given up; what differs from what was computed is told.
func (h *House) proveSample(ctx context.Context, bp blueprint.Blueprint, doubts func([]Proven)) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	list, err := h.prove(ctx, bp, deploySample, deployWithin, nil)
	if errors.Is(err, context.DeadlineExceeded) {
		return &problem.Problem{What: "the shelves could not be tried within a minute", Where: h.Facts.Kind,
			Why: "a disk or the network behind a shelf does not answer", Fix: "cozyshelf check names it", Err: err}
	}
	if err != nil {
		return err
	}
	if doubts != nil && slices.ContainsFunc(list, func(p Proven) bool { return len(p.Disagreements) > 0 }) {
		doubts(list)
	}
	for _, p := range list {
		if p.Tried > 0 && p.Read == 0 && len(p.Disagreements) > 0 {
			return &problem.Problem{What: "nothing on shelf " + p.Shelf + " can be read from inside", Where: p.Host,
				Why: p.Disagreements[0].Why + ", though owners, modes and ACLs would allow it",
				Fix: "see what lies between: mount options, the server behind a share, a security module; " +
					"cozyshelf access --prove shows every file"}
		}
	}
	return nil
}
