package scan

import (
	"path"
	"time"

	"cozyshelf/internal/store"
)

// Report is what the scan of one shelf found.
type Report struct {
	Shelf      string        `json:"shelf"`
	Folders    int           `json:"folders"`
	Files      int           `json:"files"` // media files that are there
	New        int           `json:"new"`
	Changed    int           `json:"changed"`
	Moved      int           `json:"moved"` // known elsewhere before, and still the same file
	Gone       int           `json:"gone"`
	Unreadable int           `json:"unreadable"` // files and folders that cannot be read
	Passed     int           `json:"passed"`     // other files, such as texts
	Samples    int           `json:"samples"`    // pieces of films, left out
	Unclear    int           `json:"unclear"`    // files found now whose names were not understood for sure
	Growing    int           `json:"growing"`    // files that were written to a moment ago, and are waited for
	Unplugged  []Unplugged   `json:"unplugged"`  // what is not there now: what was known of it is kept
	Noted      []Noted       `json:"noted"`      // some of it by name
	Took       time.Duration `json:"-"`
	Seconds    float64       `json:"seconds"`
}

// Noted is a file, or a folder, that a scan found something out about.
type Noted struct {
	What string `json:"what"`          // new, changed, moved, gone, unreadable, unclear
	Path string `json:"path"`          // on the host, as far as the administrator's folder tells
	Why  string `json:"why,omitempty"` // of what fails or is unclear
}

// mostNoted is how many of each sort a report names.
const mostNoted = 20

// Unplugged is a folder of a shelf, or what was mounted in it, that is not there now.
type Unplugged struct {
	Folder string `json:"folder"` // as the administrator wrote it
	Why    string `json:"why"`
}

// goneFrom counts a file that is gone from a place. It may turn up again in a folder that
// comes later.
func (s *scanner) goneFrom(id int64, at string) {
	s.report.Gone++
	if s.lately[id] = true; len(s.gone) < 5*mostNoted {
		s.gone[id] = at
	}
}

// name names something in the report, unless it names many of that sort.
func (s *scanner) name(what, at, why string) {
	if s.named[what]++; s.named[what] <= mostNoted {
		s.report.Noted = append(s.report.Noted, Noted{what, at, why})
	}
}

// note counts what is wrong with a file, and tells of it.
func (s *scanner) note(shown, dir string, f store.Found) {
	if f.Problem != "" {
		s.report.Unreadable++
		s.name("unreadable", path.Join(shown, dir, f.Name), f.Problem)
		s.log.Info("a file cannot be read", "shelf", s.shelf.Name, "file", path.Join(shown, dir, f.Name), "why",
			f.Problem)
	} else if f.Note != "" {
		s.report.Unclear++
		s.name("unclear", path.Join(shown, dir, f.Name), f.Note)
	}
}
