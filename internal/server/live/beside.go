package live

import (
	"errors"
	"io"
	"os"
	"path"

	"cozyshelf/internal/core/media"
	"cozyshelf/internal/store"
)

// MostSubtitle is how large a subtitle may be, in bytes: those of long films have a few hundred KiB.
const MostSubtitle = 2 << 20

// OpenBeside opens what lies beside a file, by its number in the list of that. It gives the file as one of its
// own, too.
func (s *Server) OpenBeside(f store.File, i int) (lies store.File, file *os.File, err error) {
	lies = f
	lies.Path, lies.Problem = path.Join(path.Dir(f.Path), f.Beside[i].Name), ""
	file, err = s.Find(lies)
	return lies, file, err
}

// BesideText gives the words of a subtitle beside a file, which is open, as WebVTT.
func (s *Server) BesideText(f store.File, i int, file io.Reader) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(file, MostSubtitle+1))
	if err == nil && len(b) > MostSubtitle {
		err = errors.New("it is larger than 2 MiB")
	}
	if err != nil {
		return nil, err
	}
	err = s.AsSuspect("subtitles "+f.Beside[i].Name, f, func() (err error) {
		b, err = media.WebVTT(b, f.Beside[i].Language)
		return err
	})
	return b, err
}
