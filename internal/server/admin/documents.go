package admin

import (
	"cozyshelf/internal/control"
	"cozyshelf/internal/store"
)

// The documents of the control socket, made from rows of the store.

func memberOf(m store.Member) control.Member {
	return control.Member{ID: m.ID, Name: m.Name, Role: m.Role, Away: m.Away, Created: m.Created, Devices: m.Devices,
		Seen: m.Seen, Allowed: m.Allowed}
}

func titleOf(t store.Title) control.Title {
	return control.Title{ID: t.ID, Shelf: t.Shelf, Kind: t.Kind, Name: t.Name, Year: t.Year, By: t.By, Parts: t.Parts,
		Duration: t.Duration, Size: t.Size, Problems: t.Problems, Added: t.Added}
}

func fileOf(f store.File) control.File {
	return control.File{ID: f.ID, Title: f.Title, Shelf: f.Shelf, Path: f.Path, Season: f.Season, Episode: f.Episode,
		Last: f.Last, Disc: f.Disc, Piece: f.Piece, Part: f.Part, Date: f.Date, Edition: f.Edition, Extra: f.Extra,
		Outside: f.Outside, Content: f.Content, Size: f.Size, Modified: f.Modified, Added: f.Added,
		Duration: f.Duration, Media: f.Media, Problem: f.Problem, Note: f.Note, Beside: f.Beside}
}

func hitOf(h store.Hit) control.Hit {
	return control.Hit{Title: titleOf(h.Title), File: h.File, Part: h.Part}
}

func libraryOf(l store.Library) control.Library {
	return control.Library{Kinds: l.Kinds, Codecs: l.Codecs, Sizes: l.Sizes, Lately: all(l.Lately, titleOf)}
}

// all gives the documents of a list of rows.
func all[R, D any](list []R, document func(R) D) []D {
	out := make([]D, len(list))
	for i, r := range list {
		out[i] = document(r)
	}
	return out
}

// listed gives the documents of what the store answers.
func listed[R, D any](list []R, err error, document func(R) D) (any, error) {
	if err != nil {
		return nil, err
	}
	return all(list, document), nil
}
