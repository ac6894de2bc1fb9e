package cli

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

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/probe"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

func (a *app) probeCommand() *cobra.Command {
	var spec string
	c := &cobra.Command{
		Use: "probe --spec JSON", Short: "Try what the server would do on its shelves (the tool uses it)", Hidden: true, Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := machine.DropPowers(); err != nil {
				return &problem.Problem{What: "the probe could not give its powers up", Why: err.Error(), Fix: "run it as an account of its own"}
			}
			var s probe.Spec
			if err := json.Unmarshal([]byte(spec), &s); err != nil {
				return wrongUse(c, err.Error())
			}
			return probe.Run(s, os.Stdout)
		},
	}
	c.Flags().StringVar(&spec, "spec", "{}", "what to try, as JSON")
	return c
}

// proven is what came of trying one folder of a shelf.
type proven struct {
	Shelf string
	Host  string
	Write bool
	permit.Proof
}

// prove tries the shelves as the server will: in a throw-away container, or as a
// child with the account's numbers. sample is how many files a folder; 0 for all.
// Only shelves that wanted names are tried, or all where it names none.
func (s *site) prove(ctx context.Context, sample int, within time.Duration, wanted []string) ([]proven, error) {
	process := s.facts.Kind == "process"
	spec := probe.Spec{Sample: sample, Seed: rand.Uint64(), Within: within, Aside: household.Holding}
	var out []proven
	var compare []*permit.Proving
	for _, shelf := range s.h.Shelves {
		if len(wanted) > 0 && !slices.Contains(wanted, shelf.Name) {
			continue
		}
		for i, folder := range shelf.Folders {
			write := shelf.Access == household.Change
			at := fmt.Sprintf("%s/%s/%d", blueprint.ShelvesInside, shelf.Name, i+1)
			if process {
				at = folder
			}
			spec.Folders = append(spec.Folders, probe.Folder{Path: at, Write: write})
			out = append(out, proven{Shelf: shelf.Name, Host: folder, Write: write})
			var p *permit.Proving
			if !household.IsShare(folder) && !s.facts.Elsewhere && machine.Silent(folder) {
				// Whoever is sent in to try would not come back.
				return nil, &problem.Problem{What: "shelf " + shelf.Name + " does not answer, so it cannot be tried", Where: folder, Why: machine.ErrSilent.Error(), Fix: "see to the disk or the network; the other shelves can be tried by name"}
			}
			if !s.facts.Elsewhere && !household.IsShare(folder) {
				real, err := machine.Patiently(func() (string, error) { return filepath.EvalSymlinks(folder) })
				if err == nil {
					p = permit.NewProving(real, sample > 0)
					id, need := s.facts.Asks(s.account, write)
					need.Fails = p.Fails
					_, err = machine.Audit(folder, id, need)
				}
				if err != nil {
					return nil, &problem.Problem{What: "a folder of shelf " + shelf.Name + " cannot be looked at", Where: folder, Why: err.Error(), Fix: "run cozyshelf check", Err: err}
				}
			}
			compare = append(compare, p)
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	text, err := json.Marshal(spec)
	if err != nil {
		return nil, err
	}
	r, w := io.Pipe()
	type ran struct {
		code int
		err  error
	}
	end := make(chan ran, 1)
	c := s.blueprint.Container
	c.Mounts = slices.DeleteFunc(c.Shelves(), func(m blueprint.Mount) bool { return len(wanted) > 0 && !slices.Contains(wanted, m.What) })
	go func() {
		code, err := s.engine.Run(ctx, c, []string{"probe", "--spec", string(text)}, w)
		w.CloseWithError(io.EOF)
		end <- ran{code, err}
	}()
	sums, err := probe.Read(r, len(out), func(n int, t permit.Trial) {
		if compare[n] != nil {
			compare[n].Tried(t)
		}
	})
	r.CloseWithError(err)
	if e := <-end; e.err != nil || e.code != 0 {
		why := fmt.Sprintf("it ended with code %d", e.code)
		if e.err != nil {
			why = deploy.Plain(e.err)
		}
		return nil, &problem.Problem{What: "the shelves could not be tried", Where: s.facts.Kind, Why: why, Fix: "cozyshelf check shows the whole picture", Err: e.err}
	}
	if err != nil {
		return nil, &problem.Problem{What: "the shelves could not be tried", Where: s.facts.Kind, Why: err.Error(), Fix: "try again", Err: err}
	}
	for i := range out {
		out[i].Proof = sums[i]
		out[i].Disagreements = []permit.Disagreement{}
		if compare[i] != nil {
			out[i].Disagreements = compare[i].End(func(p string) bool { _, err := os.Lstat(p); return err == nil })
		}
	}
	return out, nil
}

// loaded sees to it that the engine has the program, and the volumes of shares,
// for a trial before or without a deployment, and gives what takes away again
// what was not there before.
func (s *site) loaded(ctx context.Context, wanted []string) (func(), error) {
	have, err := s.observe(ctx)
	if err != nil {
		return nil, err
	}
	var undo []func(context.Context)
	if !slices.Contains(have.Images, s.image.Digest) {
		if err := s.engine.LoadImage(ctx, s.image, s.id); err != nil {
			return nil, &problem.Problem{What: "the program could not be given to the engine", Where: s.facts.Kind, Why: err.Error(), Fix: "see whether " + s.facts.Kind + " is well", Err: err}
		}
		undo = append(undo, func(ctx context.Context) { _ = s.engine.RemoveImage(ctx, s.image.Digest, s.id) }) // in use by now, or gone: either is fine
	}
	for _, v := range s.blueprint.Volumes {
		if slices.Contains(have.Volumes, v.Name) || len(wanted) > 0 && !slices.Contains(wanted, v.Shelf) {
			continue
		}
		if err := deploy.MakeVolume(ctx, s.engine, v, s.id); err != nil {
			return nil, err
		}
		undo = append(undo, func(ctx context.Context) { _ = s.engine.RemoveVolume(ctx, v.Name) }) // the next deployment removes what stays
	}
	return func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer cancel()
		for _, do := range slices.Backward(undo) {
			do(ctx)
		}
	}, nil
}

// proveAll is access --prove.
func (a *app) proveAll(ctx context.Context, s *site, sample int, wanted []string) ([]proven, error) {
	if err := a.draw(ctx, s); err != nil {
		return nil, err
	}
	unload, err := s.loaded(ctx, wanted)
	if err != nil {
		return nil, err
	}
	defer unload()
	return s.prove(ctx, sample, 0, wanted)
}

// How much deploy tries of every shelf.
const (
	deploySample = 64
	deployWithin = time.Second
)

// proveSample is the step of deploy: what cannot be used at all ends it before
// the old container is given up; what differs from what was computed is told.
func (a *app) proveSample(ctx context.Context, s *site) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	list, err := s.prove(ctx, deploySample, deployWithin, nil)
	if errors.Is(err, context.DeadlineExceeded) {
		return &problem.Problem{What: "the shelves could not be tried within a minute", Where: s.facts.Kind, Why: "a disk or the network behind a shelf does not answer", Fix: "cozyshelf check names it", Err: err}
	}
	if err != nil {
		return err
	}
	told := false
	for _, p := range list {
		for i, d := range p.Disagreements {
			if i == 5 {
				a.err.Printf("\n    and %s more", show.Count(len(p.Disagreements)-i, "path", "paths"))
				break
			}
			a.err.Printf("\n    %s: %s", p.Shelf, show.Clean(disagrees(d)))
		}
		told = told || len(p.Disagreements) > 0
		if p.Tried > 0 && p.Read == 0 && len(p.Disagreements) > 0 {
			return &problem.Problem{What: "nothing on shelf " + p.Shelf + " can be read from inside", Where: p.Host, Why: p.Disagreements[0].Why + ", though owners, modes and ACLs would allow it", Fix: "see what lies between: mount options, the server behind a share, a security module; cozyshelf access --prove shows every file"}
		}
	}
	if told {
		a.err.Printf("\n    ") // how the step went is to stand by itself
	}
	return nil
}

// disagrees writes a disagreement in a line.
func disagrees(d permit.Disagreement) string {
	may := map[bool]string{true: "may", false: "may not"}
	return fmt.Sprintf("%s: computed that it %s be %s, and it %s (%s)", d.Path, may[d.Computed], map[string]string{"read": "read", "list": "listed", "write": "written in"}[d.Need], map[bool]string{true: "can", false: "cannot"}[d.Kernel], d.Why)
}

// showProven says what came of the trial.
func (a *app) showProven(list []proven, f facts.Engine) {
	how := "in a throw-away container"
	if f.Kind == "process" {
		how = "by a child with the account's numbers"
	}
	a.out.Printf("\nproven %s:\n", how)
	for _, p := range list {
		status := "ok"
		if p.Failing > 0 {
			status = "warning"
		}
		if len(p.Disagreements) > 0 || p.Tried > 0 && p.Read == 0 {
			status = "blocked"
		}
		of := ""
		if p.Tried < p.Files {
			of = fmt.Sprintf(", a sample of %s", show.Count(p.Files, "file", "files"))
		}
		text := fmt.Sprintf("%d of %d files opened and read%s; %d of %d folders listed", p.Read, p.Tried, of, p.Listed, p.Folders)
		if p.Write {
			text += fmt.Sprintf("; in %d a file was made and removed", p.Written)
		}
		a.out.Printf("  %s  %s  %s\n", show.Mark(status), show.Bold(p.Shelf), text)
		if !household.IsShare(p.Host) && !f.Elsewhere {
			if len(p.Disagreements) == 0 {
				a.out.Printf("    %s\n", show.Faint("as computed"))
			}
			for i, d := range p.Disagreements {
				if i == 20 {
					a.out.Printf("    and %s more\n", show.Count(len(p.Disagreements)-i, "path", "paths"))
					break
				}
				a.out.Printf("    ✗ %s\n", show.Clean(disagrees(d)))
			}
		}
	}
}
