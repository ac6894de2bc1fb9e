package live

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/lookup"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

// Match does what a person wants with a title: take an entry, say that there is none, set fields or a
// picture, or look it up anew.
func (s *Server) Match(ctx context.Context, t store.Title, in control.Matching) error {
	if in.Again {
		return s.matchAgain(ctx, t.ID)
	}
	ctx, free, err := s.Describing.Take(lookup.Hurry(ctx), t.ID, true, false)
	if err != nil {
		return err
	}
	defer free()
	d, err := s.Store.Described(ctx, t.ID)
	if err != nil {
		return err
	}
	switch {
	case in.None:
		d = store.Described{Edited: d.Edited,
			Description: describe.Merge(d.Description, describe.Description{}, d.Edited), Match: describe.None,
			Candidates: []describe.Candidate{}}
	case in.Take != "":
		if d, err = s.take(ctx, t.Name, in.Take, d); err != nil {
			return err
		}
	}
	for field, value := range in.Edit {
		if err := edit(&d, field, value); err != nil {
			return err
		}
		if !slices.Contains(d.Edited, field) {
			d.Edited = append(d.Edited, field)
		}
	}
	if len(in.Picture) > 0 {
		if d.Picture, err = s.KeepPicture(in.Picture); err != nil {
			return UsageProblem("the picture cannot be taken", err.Error(),
				"give a JPEG, PNG, GIF or WebP of a usual size")
		}
		d.From = "a person"
		if !slices.Contains(d.Edited, "picture") {
			d.Edited = append(d.Edited, "picture")
		}
	}
	if d.Looked = time.Now(); d.Source == "" && len(d.Edited) > 0 {
		d.Source = "person"
	}
	if err := s.Store.Describe(ctx, t.ID, d); err != nil {
		return err
	}
	if slices.Contains(d.Edited, "age") {
		s.CutAged(ctx)
	}
	s.Events.Tell(event.TitleMatched{Title: t.Name, Match: string(d.Match), Edited: strings.Join(d.Edited, ",")})
	return nil
}

// matchAgain looks a title up anew: whoever asks for it wants it, whatever was said before.
func (s *Server) matchAgain(ctx context.Context, id int64) error {
	d, err := s.Store.Described(ctx, id)
	if err != nil {
		return err
	}
	d.Match = describe.Unlooked
	if err := s.Store.Describe(ctx, id, d); err != nil {
		return err
	}
	return s.Describe(ctx, id, true)
}

// take gives a title what a catalogue's entry says, but for what a person has set.
func (s *Server) take(ctx context.Context, title, id string, d store.Described) (store.Described, error) {
	source, _, _ := strings.Cut(id, " ")
	i := slices.IndexFunc(s.Sources, func(src lookup.Source) bool { return src.Name() == source })
	if i < 0 {
		return d, UsageProblem(fmt.Sprintf("%q cannot be taken", id),
			"no catalogue of that name may be asked",
			"write sources under [lookup] in the household file, and deploy")
	}
	found, err := s.Sources[i].Describe(ctx, id, describe.Languages(s.Settings.Language))
	if errors.Is(err, lookup.ErrNotFound) {
		return d, UsageProblem(fmt.Sprintf("there is no %q", id), "the catalogue has no such entry",
			"cozyshelf shelf match lists those that may fit")
	}
	if err != nil {
		return d, &problem.Problem{What: "the catalogue could not be asked", Where: source, Why: err.Error(),
			Fix: "try again later", Err: err}
	}
	address := found.Picture
	found.Picture = d.Picture
	from := d.From
	if address != "" && !slices.Contains(d.Edited, "picture") {
		b, err := s.FetchPicture(ctx, address, found.Outside)
		if err == nil {
			found.Picture, err = s.KeepPicture(b)
			from = address
		}
		if err != nil {
			s.Log.Info("a picture could not be had", "title", title, "why", err)
			found.Picture = d.Picture
		}
	}
	d.Description, d.Source, d.Match, d.From = describe.Merge(d.Description, found, d.Edited), source,
		describe.Chosen, from
	return d, nil
}

// edit sets one field as a person gave it.
func edit(d *store.Described, field, value string) error {
	list := func() (out []string) {
		for _, v := range strings.Split(value, ",") {
			if v = strings.TrimSpace(v); v != "" {
				out = append(out, v)
			}
		}
		return out
	}
	if len(value) > 10_000 {
		return UsageProblem("the text is too long", "it has more than 10 000 bytes", "shorten it")
	}
	switch field {
	case "name":
		d.Name = strings.TrimSpace(value)
	case "summary":
		d.Summary = strings.TrimSpace(value)
	case "genres":
		d.Genres = list()
	case "people":
		d.People = nil
		for _, v := range list() {
			name, role, ok := strings.Cut(v, ":")
			if !ok {
				role = "actor"
			}
			d.People = append(d.People, describe.Person{Name: strings.TrimSpace(name), Role: strings.TrimSpace(role)})
		}
	case "age":
		if value = strings.TrimSpace(value); value == "" {
			d.Age = nil
			break
		}
		n, ok := describe.AgeOf(value)
		if !ok {
			return UsageProblem(fmt.Sprintf("%q is no age", value), "it is a number from 0 to 21, or the mark of a "+
				"rating board", "such as age=12, age=FSK12, or age= for not known")
		}
		d.Age = &n
	case "year":
		y, err := strconv.Atoi(value)
		if value == "" {
			y, err = 0, nil
		}
		if err != nil || y != 0 && (y < 1800 || y > 2200) {
			return UsageProblem(fmt.Sprintf("%q is no year", value), "a year has four digits", "such as year=2014")
		}
		d.Year = y
	default:
		return UsageProblem(fmt.Sprintf("there is no field %q", field), "there are: "+
			strings.Join(describe.Fields, ", "), "such as summary=\"A keeper folds ships.\"")
	}
	return nil
}
