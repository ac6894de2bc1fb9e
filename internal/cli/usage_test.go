package cli

import (
	"testing"

	"cozyshelf/internal/control"
)

func TestWhatConvertingCosts(t *testing.T) {
	for want, c := range map[string]control.Conversion{
		"Converting Low Water to 480 lines for 2 devices, by software: about 40 % of the machine": {Title: "Low Water",
			Height: 480, Viewers: 2, Way: "software", Speed: 2.5},
		"Converting Low Water to 1080 lines for 1 device, by software: about 100 % of the machine": {Title: "Low Water",
			Height: 1080, Viewers: 1, Way: "software", Speed: 0.6},
		"Converting Low Water to 240 lines for 0 devices, by VA-API: how much of the machine that takes is not known yet": {
			Title: "Low Water", Height: 240, Way: "VA-API"},
	} {
		if got := costOf(c); got != want {
			t.Errorf("%s", got)
		}
	}
}
