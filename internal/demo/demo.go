// Package demo makes Fernhollow Mill, the made-up household: an old watermill
// where three generations live. The clips ship inside the program. Some are
// badly named, one is broken, one is unreadable, on purpose.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/household"
)

//go:embed clips/films clips/series clips/music clips/photos clips/recordings
var clips embed.FS

// Files that are made faulty on purpose, below the media folder.
const (
	Broken     = "series/The Night Bakery (2019)/Season 02/The Night Bakery S02E02 Ash.mp4"
	Unreadable = "series/Tiny Harbour (2016)/Season 01/Tiny Harbour S01E02 Low Tide.mp4"
)

// Person is somebody of the household.
type Person struct {
	Name string
	Role allowance.Role
}

// People are the members, in the order in which they are let in.
var People = []Person{
	{"wren", allowance.Admin}, {"ozan", allowance.Adult}, {"linnea", allowance.Child},
	{"bram", allowance.Child}, {"ilse", allowance.Adult}, {"piet", allowance.Guest},
}

// Media writes the clips below a folder, as whoever runs this, readable by
// everyone but for one.
func Media(dir string) error {
	return fs.WalkDir(clips, "clips", func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel := strings.TrimPrefix(strings.TrimPrefix(p, "clips"), "/")
		to := filepath.Join(dir, filepath.FromSlash(rel))
		if d.IsDir() {
			if err := os.MkdirAll(to, 0o755); err != nil {
				return err
			}
			return os.Chmod(to, 0o755) // whatever the umask
		}
		b, err := clips.ReadFile(p)
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		switch rel {
		case Broken:
			b = b[:900] // the copying broke off
		case Unreadable:
			mode = 0o600
			if os.Getuid() != 0 {
				mode = 0 // the server is ourselves, so even the owner may not
			}
		}
		if err := os.WriteFile(to, b, 0o644); err != nil {
			return err
		}
		return os.Chmod(to, mode)
	})
}

// Shelves are the flags of cozyshelf new for the media below a folder.
func Shelves(dir string) []string {
	var out []string
	for _, k := range household.Kinds {
		out = append(out, "--shelf", fmt.Sprintf("%s=%s:%s", k, k, filepath.Join(dir, string(k))))
	}
	return out
}
