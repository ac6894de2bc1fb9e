package usage

// Work is a title on a shelf, as plays name it.
type Work struct{ Shelf, Title string }

// Known is what is known of a work beside its name.
type Known struct{ Genres, People []string }

// Tops are the top lists that there are.
var Tops = []string{"titles", "members", "devices", "platforms", "people", "genres"}

// Top ranks what a top list is of by time watched, then by plays, then by name. People and genres come from what
// is known of works; what nothing is known of is in neither.
func Top(what string, plays []Play, works map[Work]Known) []Rank {
	switch what {
	case "titles":
		return TopTitles(plays, 0)
	case "members":
		return TopMembers(plays, 0)
	case "devices":
		return TopDevices(plays, 0)
	case "platforms":
		return TopPlatforms(plays, 0)
	}
	return rank(plays, 0, func(p Play) (names []string, shelf string, others []string) {
		known := works[Work{p.Shelf, p.Title}]
		if what == "people" {
			return known.People, "", p.Viewers()
		}
		return known.Genres, "", p.Viewers()
	}, func(r *Rank, others int) { r.Members = others })
}

// NeedsWorks reports whether a top list is made of what is known of works.
func NeedsWorks(what string) bool { return what == "people" || what == "genres" }
