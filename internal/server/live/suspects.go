package live

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path/filepath"

	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/picture"
	"cozyshelf/internal/store"
	"cozyshelf/internal/suspect"
)

// suspectsFile is the name in the state folder of the notes about what is being opened.
const suspectsFile = layout.Opening

// OpenSuspects reads what was at work when the server ended, and tells of what is passed
// over from now on. Without the notes the server works all the same.
func (s *Server) OpenSuspects() {
	book, guilty, err := suspect.Open(filepath.Join(s.Settings.State, suspectsFile))
	if err != nil {
		s.Log.Warn("files that bring the server down cannot be noted", "why", err)
		return
	}
	for _, g := range guilty {
		s.Log.Error("the server ended twice while it read this file; it is passed over until it changes", "file",
			g.What)
	}
	s.Suspects = book
}

// KeepPicture keeps a picture in all sizes, unless it brought the server down before.
func (s *Server) KeepPicture(b []byte) (name string, err error) {
	sum := sha256.Sum256(b)
	err = s.Suspects.Do("picture", hex.EncodeToString(sum[:]), "", func() error {
		name, err = picture.Keep(s.Pictures(), b)
		return err
	})
	return name, err
}

// AsSuspect does something with a file of a shelf that is read by another program.
func (s *Server) AsSuspect(kind string, f store.File, do func() error) error {
	return s.Suspects.Do(kind, f.Shelf+" "+f.Path, fmt.Sprintf("%d-%d", f.Size, f.ID), do)
}
