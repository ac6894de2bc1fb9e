package describe

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"cozyshelf/internal/core/household"
)

// sidecarTypes are the types of schema.org that stand for our kinds.
var sidecarTypes = map[household.Kind]string{household.Films: "Movie", household.Series: "TVSeries",
	household.Music: "MusicAlbum"}

// node is a thing of schema.org as far as it matters here.
type node struct {
	Context  string   `json:"@context,omitempty"`
	Type     string   `json:"@type"`
	Name     string   `json:"name,omitempty"`
	Date     string   `json:"datePublished,omitempty"`
	Summary  string   `json:"description,omitempty"`
	Director []node   `json:"director,omitempty"`
	Actor    []node   `json:"actor,omitempty"`
	Author   []node   `json:"author,omitempty"`
	By       []node   `json:"byArtist,omitempty"`
	Genre    []string `json:"genre,omitempty"`
	SameAs   string   `json:"sameAs,omitempty"`
	Rating   string   `json:"contentRating,omitempty"`
}

// addresses of entries in catalogues, as others write them too.
var entries = map[string]string{
	"wikidata":    "http://www.wikidata.org/entity/",
	"musicbrainz": "https://musicbrainz.org/release-group/",
}

// WriteSidecar writes a description as JSON-LD with terms of schema.org.
func WriteSidecar(kind household.Kind, d Description) ([]byte, error) {
	n := node{Context: "https://schema.org", Type: sidecarTypes[kind], Name: d.Name, Summary: d.Summary,
		Genre: d.Genres}
	if n.Type == "" {
		return nil, fmt.Errorf("titles of %s have no sidecar", kind)
	}
	if d.Year > 0 {
		n.Date = strconv.Itoa(d.Year)
	}
	if d.Age != nil {
		n.Rating = strconv.Itoa(*d.Age)
	}
	for _, p := range d.People {
		who := node{Type: "Person", Name: p.Name}
		switch p.Role {
		case "director":
			n.Director = append(n.Director, who)
		case "artist":
			who.Type = "MusicGroup"
			n.By = append(n.By, who)
		case "author":
			n.Author = append(n.Author, who)
		default:
			n.Actor = append(n.Actor, who)
		}
	}
	if source, id, ok := strings.Cut(d.Outside, " "); ok && entries[source] != "" {
		n.SameAs = entries[source] + id
	}
	b, err := json.MarshalIndent(n, "", "  ")
	return append(b, '\n'), err
}

// MaxSidecar is how long a sidecar may be, in bytes.
const MaxSidecar = 1 << 20

// ReadSidecar reads a description from JSON-LD with terms of schema.org, as others write it
// too: one thing, several, or a graph; values that are texts, things or lists of them.
func ReadSidecar(b []byte) (Description, error) {
	var d Description
	if len(b) > MaxSidecar {
		return d, errors.New("it is longer than 1 MiB")
	}
	var v any
	if err := json.Unmarshal([]byte(strings.TrimPrefix(string(b), "\ufeff")), &v); err != nil {
		return d, err
	}
	thing := find(v, 0)
	if thing == nil {
		return d, errors.New("it tells of no Movie, TVSeries or MusicAlbum")
	}
	d.Name = text(thing["name"])
	d.Summary = text(thing["description"])
	if d.Summary == "" {
		d.Summary = text(thing["abstract"])
	}
	for _, key := range []string{"datePublished", "dateCreated", "startDate"} {
		if s := text(thing[key]); d.Year == 0 && len(s) >= 4 {
			if y, err := strconv.Atoi(s[:4]); err == nil && y > 1800 && y < 2200 {
				d.Year = y
			}
		}
	}
	for _, role := range []struct{ key, role string }{{"director", "director"}, {"byArtist", "artist"},
		{"author", "author"}, {"creator", "author"}, {"actor", "actor"}} {
		for _, name := range texts(thing[role.key]) {
			d.People = append(d.People, Person{name, role.role})
		}
	}
	d.Genres = texts(thing["genre"])
	d.Age = Strictest(texts(thing["contentRating"])...)
	for _, key := range []string{"sameAs", "identifier", "url"} {
		for _, s := range texts(thing[key]) {
			if id := entryID(s); d.Outside == "" && id != "" {
				d.Outside = id
			}
		}
	}
	return d, nil
}

// entryID reads the address of an entry in a catalogue as an outside id.
func entryID(s string) string {
	s = strings.TrimPrefix(strings.TrimPrefix(strings.TrimPrefix(s, "https://"), "http://"), "www.")
	for _, p := range []struct{ start, source string }{{"wikidata.org/entity/", "wikidata"},
		{"wikidata.org/wiki/", "wikidata"}, {"musicbrainz.org/release-group/", "musicbrainz"}} {
		if id, ok := strings.CutPrefix(s, p.start); ok && id != "" && !strings.ContainsAny(id, "/?# ") {
			return p.source + " " + id
		}
	}
	return ""
}

// find finds the first thing of a type that stands for one of our kinds.
func find(v any, depth int) map[string]any {
	if depth > 4 {
		return nil
	}
	switch v := v.(type) {
	case []any:
		for _, x := range v {
			if m := find(x, depth+1); m != nil {
				return m
			}
		}
	case map[string]any:
		for _, t := range texts(v["@type"]) {
			t = t[strings.LastIndexAny(t, "/:")+1:]
			for _, known := range sidecarTypes {
				if t == known {
					return v
				}
			}
		}
		return find(v["@graph"], depth+1)
	}
	return nil
}

// text gives the first text of a value.
func text(v any) string {
	if list := texts(v); len(list) > 0 {
		return list[0]
	}
	return ""
}

// texts gives the texts of a value: a text, a number, a thing with a name or a value, or a
// list of these.
func texts(v any) []string {
	switch v := v.(type) {
	case string:
		if s := strings.TrimSpace(v); s != "" {
			return []string{s}
		}
	case float64:
		return []string{strconv.FormatFloat(v, 'f', -1, 64)}
	case []any:
		var out []string
		for _, x := range v {
			if len(out) < 200 {
				out = append(out, texts(x)...)
			}
		}
		return out
	case map[string]any:
		for _, key := range []string{"name", "ratingValue", "@value", "value", "@id", "url"} {
			if n, ok := v[key].(float64); ok && key == "ratingValue" {
				return texts(n)
			}
			if s, ok := v[key].(string); ok && strings.TrimSpace(s) != "" {
				return []string{strings.TrimSpace(s)}
			}
		}
	}
	return nil
}
