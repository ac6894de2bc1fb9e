package naming

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"cozyshelf/internal/core/household"
)

// Canonical gives the path that a file with this reading should have on a shelf of a
// kind: relative, with slashes, ext with its dot. Reading it gives the same reading
// again, but for the words about how it was read. It is empty where there is no such
// name: for an episode that was not understood. What no file system of another make
// would take (its separators, control characters, a dot or a space at the end) is
// written otherwise.
func Canonical(kind household.Kind, r Reading, ext string) string {
	name := write(kind, r, ext)
	for range rounds {
		if name == "" || slices.ContainsFunc(strings.Split(name, "/"), func(p string) bool { return len(p) > 255 }) {
			return ""
		}
		read := Read(kind, name)
		next := write(kind, read, ext)
		if next == name {
			return name
		}
		name = next
	}
	return ""
}

// rounds is how often a name is read again until it stays as it is. Odd ones, such as
// those that look like several things at once, may take a few.
const rounds = 6

// write writes the name of a reading once.
func write(kind household.Kind, r Reading, ext string) string {
	title := named(r.Title, r.Year)
	if r.ID != "" {
		title += " = " + r.ID
	}
	switch kind {
	case household.Films:
		return films(r, title, ext)
	case household.Series:
		season := fmt.Sprintf("Season %02d", r.Season)
		name := named(r.Title, 0)
		switch {
		case r.Date != "":
			return path.Join(title, joined(name, r.Date, r.Part)+ext)
		case r.Episode == 0:
			return "" // which episode it is, was not understood
		case r.Last > 0:
			return path.Join(title, season,
				joined(name, fmt.Sprintf("S%02dE%02d-E%02d", r.Season, r.Episode, r.Last), r.Part)+ext)
		}
		return path.Join(title, season, joined(name, fmt.Sprintf("S%02dE%02d", r.Season, r.Episode), r.Part)+ext)
	case household.Music:
		if r.Part == "" {
			return title + ext
		}
		file := orElse(fit(r.Part))
		switch {
		case r.Disc > 0 && r.Episode > 0:
			file = fmt.Sprintf("%d-%02d %s", r.Disc, r.Episode, file)
		case r.Episode > 0:
			file = fmt.Sprintf("%02d %s", r.Episode, file)
		}
		return path.Join(fit(r.By), title, file+ext)
	}
	if r.Part != "" {
		return path.Join(title, orElse(fit(r.Part))+ext)
	}
	day, clock, _ := strings.Cut(r.Date, "T")
	if clock != "" {
		clock = " " + strings.ReplaceAll(clock, ":", ".")
	}
	switch {
	case r.Title == day:
		return day + clock + strings.TrimPrefix(title, day) + ext
	case day != "":
		return day + clock + " " + title + ext
	}
	return title + ext
}

func films(r Reading, title, ext string) string {
	if r.Extra != "" && r.Part != "" {
		return path.Join(title, "Extras", orElse(fit(r.Part))+ext)
	}
	file := named(r.Title, r.Year)
	if r.Edition != "" && r.Year > 0 {
		file += " - " + fit(r.Edition)
	}
	if r.Piece > 0 && r.Year > 0 {
		file += fmt.Sprintf(" - part %d", r.Piece)
	}
	if q := fit(r.Quality); q != "" && !strings.ContainsAny(q, "[]{}") {
		file += " [" + q + "]"
	}
	return path.Join(title, file+ext)
}

func named(title string, year int) string {
	if title = orElse(fit(title)); year > 0 {
		return fmt.Sprintf("%s (%d)", title, year)
	}
	return title
}

func joined(words ...string) string {
	var out []string
	for _, w := range words {
		if w = fit(w); w != "" {
			out = append(out, w)
		}
	}
	return strings.Join(out, " ")
}

// most is how long a part of a path may be, in bytes: file systems take 255, and
// something is added to it.
const most = 180

// fit writes a text so that every file system takes it.
func fit(s string) string {
	s = strings.NewReplacer("/", "-", `\`, "-", ":", " -", "*", "", "?", "", `"`, "'", "<", "(", ">", ")", "|",
		"-").Replace(s)
	for len(s) > most {
		_, n := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-n]
	}
	return tidy(s)
}
