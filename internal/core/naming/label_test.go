package naming

import (
	"testing"

	"cozyshelf/internal/core/household"
)

func TestPartsAreCalledAsTheirNamesSay(t *testing.T) {
	for _, c := range []struct {
		kind household.Kind
		path string
		want string
	}{
		{household.Films, "Copper Kite (2003).mkv", ""},
		{household.Films, "Copper Kite (2003)/Copper Kite (2003) - extended cut.mkv", "extended cut"},
		{household.Films, "Copper Kite (2003)/Copper Kite (2003) - part 2.mkv", "part 2"},
		{household.Films, "Copper Kite (2003)/Copper Kite (2003) - extended cut - part 2.mkv", "part 2, extended cut"},
		{household.Films, "Copper Kite (2003)/Trailers/first look.mp4", "trailer: first look"},
		{household.Films, "Copper Kite (2003) - trailer.mp4", "trailer"},
		{household.Series, "Tiny Harbour/Season 01/Tiny Harbour S01E02-E03 Low Tide.mp4", "S01E02-E03 Low Tide"},
		{household.Series, "Tiny Harbour/Season 01/Tiny Harbour S01E02.mp4", "S01E02"},
		{household.Series, "Tiny Harbour/Specials/Tiny Harbour S00E03 Fog.mkv", "S00E03 Fog"},
		{household.Series, "Tiny Harbour/Season 02/the storm.mp4", "Season 2 the storm"},
		{household.Music, "The Gravel Choir/Songs for Slow Trains (1999)/01 Platform Two.m4a", "1. Platform Two"},
		{household.Music, "The Gravel Choir/Songs for Slow Trains (1999)/CD2/03 Platform Two.m4a",
			"2-03. Platform Two"},
		{household.Photos, "Orchard Picnic 2019/ladder.jpg", "ladder"},
	} {
		content, _ := ContentOf(c.path)
		if got := Label(Read(c.kind, c.path), content); got != c.want {
			t.Errorf("%s: got %q, want %q", c.path, got, c.want)
		}
	}
}
