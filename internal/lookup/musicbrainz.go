package lookup

import (
	"context"
	"net/url"
	"regexp"
	"strconv"
	"strings"

	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
)

// MusicBrainz asks MusicBrainz (its web service, version 2) about albums, as release groups.
// Covers are those of its cover archive.
type MusicBrainz struct {
	Asker
	Address string // of the web service, such as …/ws/2
	Covers  string // of the cover archive; empty for none
}

// Name is the first word of its ids.
func (*MusicBrainz) Name() string { return "musicbrainz" }

// Knows reports whether it knows titles of a kind.
func (*MusicBrainz) Knows(k household.Kind) bool { return k == household.Music }

type releaseGroup struct {
	ID      string `json:"id"`
	Title   string `json:"title"`
	First   string `json:"first-release-date"`
	Type    string `json:"primary-type"`
	Note    string `json:"disambiguation"`
	Credits []struct {
		Name string `json:"name"`
		Join string `json:"joinphrase"`
	} `json:"artist-credit"`
	Genres []struct {
		Name  string `json:"name"`
		Count int    `json:"count"`
	} `json:"genres"`
	Aliases []struct {
		Name string `json:"name"`
	} `json:"aliases"`
}

func (g releaseGroup) by() string {
	var b strings.Builder
	for _, c := range g.Credits {
		b.WriteString(c.Name + c.Join)
	}
	return b.String()
}

func (g releaseGroup) year() int {
	if len(g.First) < 4 {
		return 0
	}
	y, err := strconv.Atoi(g.First[:4])
	if err != nil {
		return 0
	}
	return y
}

var groupID = regexp.MustCompile(`^[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)

// Candidates finds entries that an album may be.
func (s *MusicBrainz) Candidates(ctx context.Context, w describe.Wanted, _ []string) ([]describe.Candidate, error) {
	var list []releaseGroup
	if source, id, ok := strings.Cut(w.Outside, " "); ok && source == s.Name() {
		g, err := s.group(ctx, id)
		if err != nil {
			return nil, err
		}
		list = append(list, g)
	} else {
		query := "releasegroup:" + quote(w.Name)
		if w.By != "" {
			query += " AND artist:" + quote(w.By)
		}
		var found struct {
			Groups []releaseGroup `json:"release-groups"`
		}
		if err := s.ask(ctx, s.Address+"/release-group",
			url.Values{"query": {query}, "limit": {"12"}, "fmt": {"json"}}, &found); err != nil {
			return nil, err
		}
		list = found.Groups
	}
	var out []describe.Candidate
	for _, g := range list {
		c := describe.Candidate{ID: "musicbrainz " + g.ID, Name: g.Title, Year: g.year(), By: g.by(),
			Kind: household.Music, Says: strings.TrimSpace(g.Type + " " + g.Note)}
		for _, a := range g.Aliases {
			c.Others = append(c.Others, a.Name)
		}
		out = append(out, c)
	}
	return out, nil
}

// quote writes a text as a phrase of the search language (Lucene).
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

func (s *MusicBrainz) group(ctx context.Context, id string) (releaseGroup, error) {
	var g releaseGroup
	if id = strings.ToLower(id); !groupID.MatchString(id) {
		return g, ErrNotFound
	}
	err := s.ask(ctx, s.Address+"/release-group/"+id,
		url.Values{"inc": {"artist-credits+genres+aliases"}, "fmt": {"json"}}, &g)
	return g, err
}

// Describe describes an entry.
func (s *MusicBrainz) Describe(ctx context.Context, id string, _ []string) (describe.Description, error) {
	g, err := s.group(ctx, strings.TrimPrefix(id, "musicbrainz "))
	if err != nil {
		return describe.Description{}, err
	}
	d := describe.Description{Name: g.Title, Year: g.year(), Summary: g.Note, Outside: "musicbrainz " + g.ID}
	for _, c := range g.Credits {
		d.People = append(d.People, describe.Person{Name: c.Name, Role: "artist"})
	}
	for _, x := range g.Genres {
		if len(d.Genres) < 5 {
			d.Genres = append(d.Genres, x.Name)
		}
	}
	if s.Covers != "" {
		d.Picture = s.Covers + "/release-group/" + g.ID + "/front-500"
	}
	return d, nil
}
