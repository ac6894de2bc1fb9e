// Package standin is a small simulated outside world, for the demo and for tests: open
// catalogues with made-up entries, which speak as the real ones do, and can be told to be
// slow, busy or broken.
package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"image"
	"image/color"
	"image/jpeg"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// Item is an entry of the catalogue of films and series.
type Item struct {
	ID       string
	Labels   map[string]string // by language
	Says     map[string]string
	Aliases  map[string][]string
	Is       string // the item that it is an instance of, such as Q11424 for a film
	Year     int
	Minutes  int
	Director []string // ids
	Cast     []string
	Genre    []string
	Image    string // name of a file
	Rated    string // the item of a rating board's mark
}

// Album is an entry of the catalogue of music.
type Album struct {
	ID, Title, By, First, Note string
	Genres                     []string
	Cover                      bool
}

// Catalogue serves made-up entries under /w/api.php (films and series), /file/ (pictures),
// /ws/2 (music) and /covers. The knobs may be set while it serves.
type Catalogue struct {
	Items  []Item
	Albums []Album

	Busy     atomic.Int64 // so many of the next requests are refused as too many
	Broken   atomic.Int64 // so many of the next answers are cut off
	Slow     atomic.Int64 // each answer takes so many milliseconds
	Requests atomic.Int64
	Agents   atomic.Pointer[string] // who asked last
}

// Household gives the catalogue of the made-up household: an entry for each title, and some
// that are easily taken for one.
func Household() *Catalogue {
	film := func(id, name string, year, minutes int, says string, people ...string) Item {
		it := Item{ID: id, Labels: map[string]string{"en": name}, Says: map[string]string{"en": says}, Is: "Q11424",
			Year: year, Minutes: minutes, Genre: []string{"Q900001"}, Image: name + " (" + strconv.Itoa(year) + ").jpg"}
		if len(people) > 0 {
			it.Director, it.Cast = people[:1], people[1:]
		}
		return it
	}
	name := func(id, n string) Item { return Item{ID: id, Labels: map[string]string{"en": n}, Is: "Q5"} }
	lighthouse := film("Q900101", "The Paper Lighthouse", 2014, 0,
		"A keeper on a dry hill folds ships out of old charts, until the sea comes back for them.", "Q900010",
		"Q900011", "Q900012")
	lighthouse.Labels["lv"], lighthouse.Says["lv"] = "Papīra bāka",
		"Bākas sargs sausā kalnā loka kuģus no vecām kartēm, līdz jūra pēc tiem atgriežas."
	bakery := film("Q900201", "The Night Bakery", 2019, 0, "What a village says while its bread rises.", "Q900013",
		"Q900011")
	bakery.Is = "Q5398426"
	harbour := film("Q900202", "Tiny Harbour", 2016, 0, "Boats the size of a thumb, and their troubles.", "Q900012")
	harbour.Is = "Q5398426"
	book := film("Q900190", "Copper Kite", 1957, 0, "A novel about a tin roof.")
	book.Is = "Q7725634"
	kite := film("Q900104", "Copper Kite", 2003, 0, "A roofer builds one thing that is meant to fly.", "Q900014",
		"Q900011")
	kite.Rated = "Q900020"
	return &Catalogue{
		Items: []Item{
			lighthouse, film("Q900191", "The Paper Lighthouse", 1968, 0, "A short film about post.", "Q900013"),
			film("Q900102", "Nine Kinds of Rain", 2021, 0,
				"A weather clerk learns to tell rains apart by their sound.", "Q900013", "Q900012"),
			film("Q900103", "A Ferry to Somewhere", 1987, 0, "Two strangers miss the same boat every day for a year.",
				"Q900010", "Q900014"),
			kite, book, name("Q900020", "FSK 12"),
			film("Q900105", "The Understudy Moon", 1996, 0,
				"In a small theatre the moon is played by whoever is free.", "Q900013", "Q900010"),
			film("Q900106", "Salt and Semaphore", 2018, 0, "A fishing family talks only by flags.", "Q900012"),
			film("Q900192", "Salt & Semaphore", 2018, 0, "A film about the making of one.", "Q900012"),
			bakery, harbour,
			name("Q900010", "Ada Reedwater"), name("Q900011", "Ödön Quillfeather"), name("Q900012", "Marit Sandgrain"),
			name("Q900013", "Ivo Lanternby"), name("Q900014", "Pell Underhay"),
			{ID: "Q900001", Labels: map[string]string{"en": "quiet comedy", "lv": "klusa komēdija"}, Is: "Q201658"},
		},
		Albums: []Album{
			{ID: "00000000-0000-4000-8000-000000000001", Title: "Songs for Slow Trains", By: "The Gravel Choir",
				First: "1999-03-01", Genres: []string{"choral"}, Cover: true},
			{ID: "00000000-0000-4000-8000-000000000002", Title: "Tin Roof Nocturnes", By: "Mirela Vant",
				First: "2012-10", Genres: []string{"nocturne"}, Cover: true},
			{ID: "00000000-0000-4000-8000-000000000003", Title: "Tin Roof Nocturnes", By: "The Gutter Band",
				First: "2013", Note: "live"},
		},
	}
}

// ServeHTTP answers as the catalogues do.
func (c *Catalogue) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c.Requests.Add(1)
	agent := r.Header.Get("User-Agent")
	c.Agents.Store(&agent)
	time.Sleep(time.Duration(c.Slow.Load()) * time.Millisecond)
	if c.Busy.Add(-1) >= 0 {
		w.Header().Set("Retry-After", "0")
		http.Error(w, "too many requests", http.StatusTooManyRequests)
		return
	}
	c.Busy.Store(max(0, c.Busy.Load()))
	broken := c.Broken.Add(-1) >= 0
	if !broken {
		c.Broken.Store(0)
	}
	switch p := r.URL.Path; {
	case agent == "" || strings.HasPrefix(agent, "Go-http-client"):
		http.Error(w, "say who asks", http.StatusForbidden)
	case p == "/w/api.php":
		c.api(w, r, broken)
	case strings.HasPrefix(p, "/file/"):
		c.picture(w, strings.TrimPrefix(p, "/file/"), broken)
	case p == "/ws/2/release-group":
		c.searchAlbums(w, r, broken)
	case strings.HasPrefix(p, "/ws/2/release-group/"):
		c.album(w, strings.TrimPrefix(p, "/ws/2/release-group/"), broken)
	case strings.HasPrefix(p, "/covers/release-group/"):
		id, _, _ := strings.Cut(strings.TrimPrefix(p, "/covers/release-group/"), "/")
		if i := slices.IndexFunc(c.Albums, func(a Album) bool { return a.ID == id && a.Cover }); i >= 0 {
			c.picture(w, c.Albums[i].Title, broken)
			return
		}
		http.NotFound(w, r)
	default:
		http.NotFound(w, r)
	}
}

func send(w http.ResponseWriter, kind string, b []byte, broken bool) {
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Length", fmt.Sprint(len(b)))
	if broken {
		b = b[:len(b)/2]
	}
	_, _ = w.Write(b) // the client has gone, if this fails
}

func document(w http.ResponseWriter, v any, broken bool) {
	b, err := json.Marshal(v)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	send(w, "application/json; charset=utf-8", b, broken)
}

func (c *Catalogue) api(w http.ResponseWriter, r *http.Request, broken bool) {
	q := r.URL.Query()
	switch q.Get("action") {
	case "wbsearchentities":
		list := []map[string]any{}
		text, lang := strings.ToLower(q.Get("search")), q.Get("language")
		if !slices.ContainsFunc(c.Items, func(it Item) bool { return it.Labels[lang] != "" }) {
			document(w, map[string]any{"error": map[string]string{"code": "badvalue",
				"info": "Unrecognized value for parameter \"language\": " + lang + "."}}, broken)
			return
		}
		for _, it := range c.Items {
			names := append([]string{it.Labels[lang]}, it.Aliases[lang]...)
			for _, n := range names {
				if n != "" && strings.HasPrefix(strings.ToLower(n), text) {
					list = append(list, map[string]any{"id": it.ID, "label": it.Labels[lang],
						"description": it.Says[lang],
						"match":       map[string]string{"type": "label", "language": lang, "text": n}})
					break
				}
			}
		}
		document(w, map[string]any{"searchinfo": map[string]string{"search": q.Get("search")}, "search": list,
			"success": 1}, broken)
	case "wbgetentities":
		ids := strings.Split(q.Get("ids"), "|")
		if len(ids) > 50 {
			document(w, map[string]any{"error": map[string]string{"code": "toomanyvalues",
				"info": "Too many values supplied for parameter ids. The limit is 50."}}, broken)
			return
		}
		out := map[string]any{}
		for _, id := range ids {
			i := slices.IndexFunc(c.Items, func(it Item) bool { return it.ID == id })
			if i < 0 {
				out[id] = map[string]any{"id": id, "missing": ""}
				continue
			}
			out[id] = c.Items[i].entity(strings.Split(q.Get("languages"), "|"))
		}
		document(w, map[string]any{"entities": out, "success": 1}, broken)
	default:
		document(w, map[string]any{"error": map[string]string{"code": "badvalue",
			"info": "Unrecognized value for parameter action"}}, broken)
	}
}

func (it Item) entity(languages []string) map[string]any {
	words := func(m map[string]string) map[string]any {
		out := map[string]any{}
		for _, l := range languages {
			if m[l] != "" {
				out[l] = map[string]string{"language": l, "value": m[l]}
			}
		}
		return out
	}
	aliases := map[string]any{}
	for _, l := range languages {
		var list []map[string]string
		for _, a := range it.Aliases[l] {
			list = append(list, map[string]string{"language": l, "value": a})
		}
		if list != nil {
			aliases[l] = list
		}
	}
	claims := map[string]any{}
	add := func(property, kind string, values ...any) {
		var list []any
		for _, v := range values {
			list = append(list, map[string]any{"mainsnak": map[string]any{"snaktype": "value", "property": property,
				"datavalue": map[string]any{"value": v, "type": kind}}, "type": "statement", "rank": "normal"})
		}
		if len(list) > 0 {
			claims[property] = list
		}
	}
	items := func(ids ...string) []any {
		var out []any
		for _, id := range ids {
			if n, err := strconv.Atoi(strings.TrimPrefix(id, "Q")); err == nil {
				out = append(out, map[string]any{"entity-type": "item", "numeric-id": n, "id": id})
			}
		}
		return out
	}
	add("P31", "wikibase-entityid", items(it.Is)...)
	add("P57", "wikibase-entityid", items(it.Director...)...)
	add("P161", "wikibase-entityid", items(it.Cast...)...)
	add("P136", "wikibase-entityid", items(it.Genre...)...)
	if it.Rated != "" {
		add("P1981", "wikibase-entityid", items(it.Rated)...)
	}
	if it.Year > 0 {
		add("P577", "time", map[string]any{"time": fmt.Sprintf("+%04d-00-00T00:00:00Z", it.Year), "precision": 9,
			"timezone": 0, "before": 0, "after": 0, "calendarmodel": "http://www.wikidata.org/entity/Q1985727"})
	}
	if it.Minutes > 0 {
		add("P2047", "quantity", map[string]any{"amount": fmt.Sprintf("+%d", it.Minutes),
			"unit": "http://www.wikidata.org/entity/Q7727"})
	}
	if it.Image != "" {
		add("P18", "string", it.Image)
	}
	return map[string]any{"type": "item", "id": it.ID, "labels": words(it.Labels), "descriptions": words(it.Says),
		"aliases": aliases, "claims": claims}
}

func (a Album) group() map[string]any {
	genres := []map[string]any{}
	for _, g := range a.Genres {
		genres = append(genres, map[string]any{"name": g, "count": 1})
	}
	return map[string]any{"id": a.ID, "title": a.Title, "first-release-date": a.First, "primary-type": "Album",
		"disambiguation": a.Note, "genres": genres, "aliases": []any{},
		"artist-credit": []map[string]any{{"name": a.By, "joinphrase": "", "artist": map[string]string{"name": a.By}}}}
}

// searchAlbums understands as much of the search language as is asked: phrases of two
// fields.
func (c *Catalogue) searchAlbums(w http.ResponseWriter, r *http.Request, broken bool) {
	field := func(name string) string {
		_, rest, ok := strings.Cut(r.URL.Query().Get("query"), name+`:"`)
		if !ok {
			return ""
		}
		v, _, _ := strings.Cut(rest, `"`)
		return strings.ToLower(v)
	}
	title, by := field("releasegroup"), field("artist")
	list := []any{}
	for _, a := range c.Albums {
		if strings.Contains(strings.ToLower(a.Title), title) &&
			(by == "" || strings.Contains(strings.ToLower(a.By), by)) {
			list = append(list, a.group())
		}
	}
	document(w, map[string]any{"created": "2026-01-01T00:00:00Z", "count": len(list), "offset": 0,
		"release-groups": list}, broken)
}

func (c *Catalogue) album(w http.ResponseWriter, id string, broken bool) {
	i := slices.IndexFunc(c.Albums, func(a Album) bool { return a.ID == id })
	if i < 0 {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusNotFound)
		_, _ = w.Write([]byte(`{"error":"Not Found"}`)) // the client has gone, if this fails
		return
	}
	document(w, c.Albums[i].group(), broken)
}

// lands are the colours of a sky, its light, and the hills before it.
var lands = [][4]color.RGBA{
	{{0x2f, 0x45, 0x62, 255}, {0xe7, 0xc9, 0x8f, 255}, {0x1f, 0x2e, 0x3a, 255}, {0x4c, 0x62, 0x6b, 255}},
	{{0xc9, 0x8a, 0x5b, 255}, {0xf6, 0xe3, 0xc0, 255}, {0x5a, 0x33, 0x2a, 255}, {0x8b, 0x57, 0x3f, 255}},
	{{0x6d, 0x8a, 0x84, 255}, {0xf1, 0xec, 0xd8, 255}, {0x2b, 0x43, 0x3c, 255}, {0x4a, 0x68, 0x58, 255}},
	{{0x7a, 0x5b, 0x73, 255}, {0xf3, 0xd7, 0xc9, 255}, {0x37, 0x28, 0x3d, 255}, {0x5b, 0x43, 0x58, 255}},
	{{0xa3, 0xb1, 0xb8, 255}, {0xff, 0xff, 0xf4, 255}, {0x44, 0x50, 0x57, 255}, {0x73, 0x82, 0x88, 255}},
}

// picture draws a sky with a light and two hills, which follow from a name.
func (c *Catalogue) picture(w http.ResponseWriter, name string, broken bool) {
	h := fnv.New32a()
	h.Write([]byte(name))
	n := h.Sum32()
	l := lands[n%uint32(len(lands))]
	mix := func(a, b color.RGBA, part float64) color.RGBA {
		m := func(x, y uint8) uint8 { return uint8(float64(x)*(1-part) + float64(y)*part) }
		return color.RGBA{m(a.R, b.R), m(a.G, b.G), m(a.B, b.B), 255}
	}
	sunX, sunY, size := 120+float64(n>>3%360), 160+float64(n>>9%220), 50+float64(n>>15%60)
	wide := 90 + float64(n>>19%90)
	img := image.NewRGBA(image.Rect(0, 0, 600, 800))
	for y := range 800 {
		for x := range 600 {
			fx, fy := float64(x), float64(y)
			col := mix(l[0], l[1], fy/1100)
			if math.Hypot(fx-sunX, fy-sunY) < size {
				col = l[1]
			}
			if fy > 560+60*math.Sin(fx/wide+float64(n%7)) {
				col = l[3]
			}
			if fy > 660+40*math.Sin(fx/(wide*0.7)+float64(n%5)) {
				col = l[2]
			}
			img.SetRGBA(x, y, col)
		}
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: 85}); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	send(w, "image/jpeg", b.Bytes(), broken)
}
