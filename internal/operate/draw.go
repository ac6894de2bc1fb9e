package operate

import (
	"context"
	"os"
	"slices"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/problem"
)

// Drawn is what should exist, with the image of this program that it is made from.
type Drawn struct {
	Blueprint blueprint.Blueprint
	Image     pack.Image
	site      blueprint.Site
}

// Draw draws what should exist. The account must be known.
func (h *House) Draw(ctx context.Context) (Drawn, error) {
	if !h.Account.Known {
		return Drawn{}, &problem.Problem{What: "the run-as account is not known", Where: h.Account.Asked,
			Why: h.Account.Why, Fix: "make the account, or write run_as = \"uid:gid\" in the household file"}
	}
	image, err := h.image(ctx)
	if err != nil {
		return Drawn{}, err
	}
	site := blueprint.Site{Engine: h.Facts.Kind, Can: h.Facts.Can, UID: h.Account.UID, GID: h.Account.GID,
		Groups: slices.Concat(h.Account.Groups, machine.DeviceGroups(h.Household.Mapped())), Stamp: machine.Stamp,
		Image: image.Digest, Version: h.Version, FFmpeg: image.FFmpeg(), Names: machine.Names(),
		HidesClients: h.Facts.HidesClients, IPv6: h.Facts.IPv6, Host: h.Facts.Identity(h.Account),
		Units: machine.Units(), OwnUnits: os.Getuid() != 0}
	if !h.Facts.Elsewhere {
		site.Spread = machine.Spread
	}
	if b, can := h.Engine.(engine.Boots); can {
		site.Boot = b.Boot
	}
	return Drawn{Blueprint: blueprint.Draw(h.Household, site), Image: image, site: site}, nil
}

// image gives the image of this program as the household wants it: with ffmpeg in it
// where there is work for it. Without ffmpeg on this machine there is none in the image:
// check says so before, and status afterwards.
func (h *House) image(ctx context.Context) (pack.Image, error) {
	image, err := h.Program()
	if err != nil {
		return pack.Image{}, &problem.Problem{What: "the program cannot read itself", Why: err.Error(),
			Fix: "install it again", Err: err}
	}
	if h.Facts.Can.Isolates && h.Household.WantsFFmpeg() {
		if f, err := pack.FindFFmpeg(ctx, h.Household.Mapped()); err == nil {
			image = image.With(f)
		}
	}
	return image, nil
}
