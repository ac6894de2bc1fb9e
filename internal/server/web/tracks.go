package web

import (
	"cmp"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/store"
)

// track is a subtitle as the player offers it.
type track struct {
	Address, Language, Label string // the page puts the language's own name into the label
	Hearing, Shown           bool   // for people who hear badly; shown without being asked for
}

// tracks gives the subtitles beside a film that browsers can show: the household's language
// first. One of what is spoken in other languages is shown without being asked for.
func tracks(f store.File, household string) []track {
	var out []track
	for _, b := range f.Beside {
		if ext := strings.ToLower(path.Ext(b.Name)); b.Sort != naming.Subtitles || ext != ".srt" && ext != ".vtt" {
			continue
		}
		t := track{Address: "/api/v1/files/" + strconv.FormatInt(f.ID, 10) + "/subtitles/" + url.PathEscape(b.Name),
			Language: b.Language, Label: cmp.Or(b.Language, "Subtitles"), Hearing: b.Hearing}
		if b.Forced {
			t.Label += ", only what is in another language"
			t.Shown = naming.SameLanguage(b.Language, household) &&
				!slices.ContainsFunc(out, func(t track) bool { return t.Shown })
		}
		if b.Hearing {
			t.Label += ", with sounds"
		}
		out = append(out, t)
	}
	slices.SortStableFunc(out, func(a, b track) int {
		is := func(t track) int {
			if naming.SameLanguage(t.Language, household) {
				return 0
			}
			return 1
		}
		return is(a) - is(b)
	})
	return out
}

// spoken is a track of sound that can be chosen.
type spoken struct {
	Track          int
	Language, Name string
}

// sounds gives the tracks of sound of a film, where there are several.
func sounds(f store.File) (out []spoken) {
	for i, t := range f.Media.Tracks {
		if t.Kind == media.Audio {
			s := spoken{Track: i + 1, Language: t.Language, Name: fmt.Sprintf("%d", len(out)+1)}
			if t.Language != "" {
				s.Name += ", " + t.Language
			}
			switch {
			case t.Channels == 1:
				s.Name += ", mono"
			case t.Channels > 2:
				s.Name += fmt.Sprintf(", %d channels", t.Channels)
			}
			out = append(out, s)
		}
	}
	if len(out) < 2 {
		return nil
	}
	return out
}
