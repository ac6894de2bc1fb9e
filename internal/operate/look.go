package operate

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/convert"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/encoders"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/verdict"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ffmpeg"
	"cozyshelf/internal/intake"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/pack"
)

// Gather looks at this machine.
func (h *House) Gather(ctx context.Context) facts.Facts {
	f := machine.Gather(h.Household, h.Facts, h.Account, h.Files, func(port int, holder string) bool {
		return h.holds(ctx, port, holder)
	})
	f.Program, f.Others = h.Version, h.Others(ctx)
	if h.Facts.Answers {
		f.Left = h.left(ctx)
	}
	for i, p := range f.Ports {
		if !p.Free && !p.Ours && p.Error == "" {
			f.Ports[i].Neighbour = h.neighbour(ctx, p.Number)
		}
	}
	if h.Household.WantsFFmpeg() {
		f.FFmpeg = &facts.FFmpeg{}
		if x, err := pack.FindFFmpeg(ctx, h.Household.Mapped()); err != nil {
			f.FFmpeg.Why = err.Error()
		} else {
			f.FFmpeg.Version, f.FFmpeg.Size = x.Version, x.Size
		}
	}
	return f
}

// TryWays tries how pictures could be made anew here, and adds what came of it to the facts, where
// the household wants conversions. It takes about half a second for each way that there may be.
func (h *House) TryWays(ctx context.Context, f *facts.Facts) {
	if h.Household.Convert.When != household.ConvertNeeded || f.FFmpeg == nil || f.FFmpeg.Version == "" {
		return
	}
	tools, err := ffmpeg.Find()
	if err != nil {
		return // the facts say it
	}
	tried, err := convert.TryAll(ctx, tools, h.Household.Convert.Device, machine.Encoders(), os.TempDir())
	if err != nil {
		f.FFmpeg.Ways = []facts.Way{{Name: encoders.InSoftware.Name(), Why: err.Error()}}
		return
	}
	for _, t := range tried {
		f.FFmpeg.Ways = append(f.FFmpeg.Ways, facts.Way{Name: t.Name(), Hardware: t.Hardware(), Why: t.Why})
	}
}

// Judge says of everything whether the household will work here.
func (h *House) Judge(ctx context.Context) []verdict.Line {
	return verdict.Judge(h.Household, h.Gather(ctx))
}

// holds reports whether the household's own server holds a port. A server that
// is meant to run but cannot does not hold what another program has.
func (h *House) holds(ctx context.Context, port int, holder string) bool {
	if !h.Facts.Answers {
		return false
	}
	o, err := h.Engine.Observe(ctx, h.ID)
	if err != nil {
		return false
	}
	seen, ok := o.Running()
	if !ok || !slices.ContainsFunc(seen.Service.Listeners, func(l blueprint.Listener) bool { return l.Port == port }) {
		return false
	}
	name, _, _ := strings.Cut(holder, " ")
	return name == "" || name == "cozyshelf" || slices.Contains(facts.PortHolders, name)
}

// left lists what commands that were cut off left behind: all that the next deployment
// removes.
func (h *House) left(ctx context.Context) []string {
	var out []string
	if o, err := h.Engine.Observe(ctx, h.ID); err == nil {
		for _, x := range o.Strays {
			if !x.Running {
				out = append(out, "half a server on "+h.Facts.Kind+": "+x.Name)
			}
		}
		for _, i := range o.Unkept {
			out = append(out, "a program that no household uses: "+i)
		}
		if was := deploy.ReadDeployed(h.State()); was != nil {
			for _, i := range o.Kept {
				if !slices.Contains(was.Images, i) {
					out = append(out, "a program that this household no longer needs: "+i)
				}
			}
		}
	}
	for _, n := range boundary.Left(h.State()) {
		out = append(out, "half-made: "+filepath.Join(boundary.Admin(h.State()), boundary.WorkName, n))
	}
	for _, sh := range h.Household.Shelves {
		for _, folder := range sh.Folders {
			if household.IsShare(folder) || machine.Far(folder) {
				continue
			}
			for _, p := range intake.Left(folder) {
				out = append(out, "a job that is over: "+p)
			}
		}
	}
	return out
}
