package lookup

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
)

// Wikidata asks Wikidata (its MediaWiki interface: wbsearchentities and wbgetentities) about
// films and series. Pictures are files of Commons.
type Wikidata struct {
	Asker
	Address string // of its api.php
	Commons string // before the name of a file
}

// What the properties and items used here are on Wikidata.
const (
	instanceOf  = "P31"
	director    = "P57"
	castMember  = "P161"
	genre       = "P136"
	publication = "P577"
	startTime   = "P580"
	duration    = "P2047"
	image       = "P18"
	poster      = "P3383"
)

// ratings are properties that give the mark of a rating board: of Germany, the United States, the
// United Kingdom, France and the Netherlands.
var ratings = []string{"P1981", "P1657", "P2629", "P2758", "P2684"}

var wikidataKinds = map[string]household.Kind{
	"Q11424": household.Films, "Q24862": household.Films, "Q202866": household.Films, "Q506240": household.Films,
	"Q93204": household.Films, "Q20667187": household.Films, "Q29168811": household.Films,
	"Q5398426": household.Series, "Q1259759": household.Series, "Q581714": household.Series,
	"Q63952888": household.Series, "Q526877": household.Series,
	"Q482994": household.Music, "Q208569": household.Music,
}

// units of durations, in seconds.
var units = map[string]float64{"Q7727": 60, "Q11574": 1, "Q25235": 3600}

type entity struct {
	ID     string `json:"id"`
	Labels map[string]struct {
		Value string `json:"value"`
	} `json:"labels"`
	Descriptions map[string]struct {
		Value string `json:"value"`
	} `json:"descriptions"`
	Aliases map[string][]struct {
		Value string `json:"value"`
	} `json:"aliases"`
	Claims  map[string][]claim `json:"claims"`
	Missing *string            `json:"missing"`
}

type claim struct {
	Rank string `json:"rank"`
	Main struct {
		Type string `json:"snaktype"`
		Data struct {
			Type  string `json:"type"`
			Value any    `json:"value"`
		} `json:"datavalue"`
	} `json:"mainsnak"`
}

// Name is the first word of its ids.
func (*Wikidata) Name() string { return "wikidata" }

// Knows reports whether it knows titles of a kind.
func (*Wikidata) Knows(k household.Kind) bool { return k == household.Films || k == household.Series }

var itemID = regexp.MustCompile(`^Q[1-9][0-9]{0,11}$`)

// Candidates finds entries that a title may be.
func (s *Wikidata) Candidates(ctx context.Context, w describe.Wanted, languages []string) ([]describe.Candidate,
	error) {
	var ids []string
	if source, id, ok := strings.Cut(w.Outside, " "); ok && source == s.Name() {
		ids = append(ids, strings.ToUpper(id))
	} else {
		for _, lang := range languages {
			var found struct {
				Search []struct {
					ID string `json:"id"`
				} `json:"search"`
				Error refusal `json:"error"`
			}
			q := url.Values{"action": {"wbsearchentities"}, "search": {w.Name}, "language": {lang}, "uselang": {lang},
				"type": {"item"}, "limit": {"12"}, "format": {"json"}}
			if err := s.ask(ctx, s.Address, q, &found); err != nil {
				return nil, err
			}
			if found.Error.Code == "badvalue" && lang != languages[len(languages)-1] {
				continue // a language, or a country's, that it does not know
			}
			if err := found.Error.err(); err != nil {
				return nil, err
			}
			for _, f := range found.Search {
				if !slices.Contains(ids, f.ID) {
					ids = append(ids, f.ID)
				}
			}
		}
	}
	ids = slices.DeleteFunc(ids, func(id string) bool { return !itemID.MatchString(id) })
	if len(ids) == 0 {
		return nil, nil
	}
	list, err := s.entities(ctx, ids[:min(20, len(ids))], languages)
	if err != nil {
		return nil, err
	}
	var out []describe.Candidate
	for _, id := range ids {
		e, ok := list[id]
		if !ok || e.Missing != nil {
			continue
		}
		c := describe.Candidate{ID: "wikidata " + id, Name: e.label(languages), Year: e.year(), Kind: e.kind(),
			Duration: e.length(), Says: e.says(languages)}
		for _, lang := range languages {
			if l := e.Labels[lang].Value; l != "" && l != c.Name {
				c.Others = append(c.Others, l)
			}
			for _, a := range e.Aliases[lang] {
				c.Others = append(c.Others, a.Value)
			}
		}
		// What is neither a film nor a series is only in the way, unless it was named.
		if c.Kind != "" || w.Outside != "" {
			out = append(out, c)
		}
	}
	return out, nil
}

// refusal is what it says in place of an answer, with a status of 200.
type refusal struct {
	Code string `json:"code"`
	Info string `json:"info"`
}

func (r refusal) err() error {
	if r.Code == "" {
		return nil
	}
	return fmt.Errorf("the catalogue says: %s", cmp.Or(r.Info, r.Code))
}

// entities asks for entries, fifty at a time.
func (s *Wikidata) entities(ctx context.Context, ids, languages []string) (map[string]entity, error) {
	out := map[string]entity{}
	for part := range slices.Chunk(ids, 50) {
		var got struct {
			Entities map[string]entity `json:"entities"`
			Error    refusal           `json:"error"`
		}
		q := url.Values{"action": {"wbgetentities"}, "ids": {strings.Join(part, "|")},
			"props": {"labels|descriptions|aliases|claims"}, "languages": {strings.Join(languages, "|")},
			"format": {"json"}}
		if err := s.ask(ctx, s.Address, q, &got); err != nil {
			return nil, err
		}
		if err := got.Error.err(); err != nil {
			return nil, err
		}
		for id, e := range got.Entities {
			out[id] = e
		}
	}
	return out, nil
}

// Describe describes an entry.
func (s *Wikidata) Describe(ctx context.Context, id string, languages []string) (describe.Description, error) {
	item := strings.ToUpper(strings.TrimPrefix(id, "wikidata "))
	if !itemID.MatchString(item) {
		return describe.Description{}, ErrNotFound
	}
	got, err := s.entities(ctx, []string{item}, languages)
	if err != nil {
		return describe.Description{}, err
	}
	e, ok := got[item]
	if !ok || e.Missing != nil {
		return describe.Description{}, ErrNotFound
	}
	d := describe.Description{Name: e.label(languages), Year: e.year(), Summary: e.says(languages),
		Outside: "wikidata " + item}
	type part struct{ id, role string }
	var parts []part
	for _, p := range []struct {
		property, role string
		most           int
	}{{director, "director", 4}, {castMember, "actor", 12}, {genre, "genre", 5}} {
		for i, v := range e.items(p.property) {
			if i < p.most {
				parts = append(parts, part{v, p.role})
			}
		}
	}
	var ids []string
	for _, p := range parts {
		if !slices.Contains(ids, p.id) {
			ids = append(ids, p.id)
		}
	}
	var boards []string
	for _, property := range ratings {
		boards = append(boards, e.items(property)...)
	}
	for _, id := range boards[:min(20, len(boards))] {
		if !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	if len(ids) > 0 {
		names, err := s.entities(ctx, ids, languages)
		if err != nil {
			return d, err
		}
		var marks []string
		for _, id := range boards {
			marks = append(marks, names[id].label([]string{"en"}), names[id].label(languages))
		}
		d.Age = describe.Strictest(marks...)
		for _, p := range parts {
			n, ok := names[p.id]
			if !ok {
				continue
			}
			name := n.label(languages)
			switch {
			case name == "":
			case p.role == "genre":
				d.Genres = append(d.Genres, name)
			default:
				d.People = append(d.People, describe.Person{Name: name, Role: p.role})
			}
		}
	}
	for _, property := range []string{poster, image} {
		for _, v := range e.values(property) {
			if name, ok := v.(string); ok && d.Picture == "" && name != "" && s.Commons != "" {
				d.Picture = s.Commons + url.PathEscape(strings.ReplaceAll(name, " ", "_")) + "?width=800"
			}
		}
	}
	return d, nil
}

// label gives the name in the first language that there is one in.
func (e entity) label(languages []string) string {
	for _, l := range languages {
		if v := e.Labels[l].Value; v != "" {
			return v
		}
	}
	return ""
}

func (e entity) says(languages []string) string {
	for _, l := range languages {
		if v := e.Descriptions[l].Value; v != "" {
			return cut(v, 500)
		}
	}
	return ""
}

// values gives the values of a property: the preferred ones first, no deprecated ones.
func (e entity) values(property string) []any {
	list := slices.Clone(e.Claims[property])
	list = slices.DeleteFunc(list, func(c claim) bool { return c.Rank == "deprecated" || c.Main.Type != "value" })
	slices.SortStableFunc(list, func(a, b claim) int {
		rank := map[string]int{"preferred": 0}
		ra, oka := rank[a.Rank]
		rb, okb := rank[b.Rank]
		if !oka {
			ra = 1
		}
		if !okb {
			rb = 1
		}
		return cmp.Compare(ra, rb)
	})
	var out []any
	for _, c := range list {
		out = append(out, c.Main.Data.Value)
	}
	return out
}

// items gives the ids of the items that a property names.
func (e entity) items(property string) []string {
	var out []string
	for _, v := range e.values(property) {
		if m, ok := v.(map[string]any); ok {
			if id, ok := m["id"].(string); ok && itemID.MatchString(id) {
				out = append(out, id)
			}
		}
	}
	return out
}

func (e entity) kind() household.Kind {
	for _, id := range e.items(instanceOf) {
		if k := wikidataKinds[id]; k != "" {
			return k
		}
	}
	return ""
}

// year gives the first year of publication, or of the start of a series.
func (e entity) year() int {
	first := 0
	for _, property := range []string{publication, startTime} {
		for _, v := range e.values(property) {
			m, ok := v.(map[string]any)
			if !ok {
				continue
			}
			t, _ := m["time"].(string) // +2014-05-04T00:00:00Z
			if len(t) < 5 || t[0] != '+' {
				continue
			}
			if y, err := strconv.Atoi(t[1:5]); err == nil && y > 1800 && (first == 0 || y < first) {
				first = y
			}
		}
		if first > 0 {
			return first
		}
	}
	return 0
}

// length gives the duration in seconds.
func (e entity) length() float64 {
	for _, v := range e.values(duration) {
		m, ok := v.(map[string]any)
		if !ok {
			continue
		}
		amount, _ := m["amount"].(string)
		unit, _ := m["unit"].(string)
		n, err := strconv.ParseFloat(strings.TrimPrefix(amount, "+"), 64)
		if factor := units[unit[strings.LastIndexByte(unit, '/')+1:]]; err == nil && factor > 0 {
			return n * factor
		}
	}
	return 0
}
