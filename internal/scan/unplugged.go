package scan

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/store"
)

func (s *scanner) unplugged(shown, why string) {
	s.report.Unplugged = append(s.report.Unplugged, Unplugged{shown, why})
	s.log.Warn("a folder of a shelf is unplugged; what was known is "+
		"kept", "shelf", s.shelf.Name, "folder", shown, "why",
		why)
}

// bare reports whether a folder looks like the place of a disk that is not
// mounted: files are known at or below it, and there is neither a folder nor a
// file of the shelf's kind in it.
func (s *scanner) bare(ctx context.Context, inside, shown, rel string) (bool, error) {
	known, err := s.st.KnownBelow(ctx, s.shelf.Name, shown, rel, 1)
	if err != nil || len(known) == 0 {
		return false, err
	}
	holds := false
	err = machine.List(filepath.Join(inside, rel), func(e machine.Entry) {
		content, _ := naming.ContentOf(e.Name)
		holds = holds || e.Err != nil || !strings.HasPrefix(e.Name, ".") &&
			(e.Folder || naming.Takes(s.shelf.Kind, content))
	})
	return err == nil && !holds, err
}

// mounts finds what is mounted below a folder, and what was before and is no longer. It
// gives what is to be noted for the next time.
func (s *scanner) mounts(ctx context.Context, inside, shown string, before []string) ([]string, error) {
	now, err := machine.MountsBelow(inside)
	if err != nil {
		return nil, nil // nobody can tell; then nothing is noted
	}
	for _, rel := range before {
		if slices.Contains(now, rel) || s.emptied {
			continue
		}
		if slices.Contains(s.missing, rel) { // that was said
			now = append(now, rel)
			continue
		}
		gone, err := machine.Patiently(func() (bool, error) { return s.bare(ctx, inside, shown, rel) })
		if gone || errors.Is(err, fs.ErrNotExist) {
			s.missing = append(s.missing, rel)
			s.unplugged(path.Join(shown, rel),
				"what was mounted there is not mounted now; if it is gone for good: cozyshelf shelf scan "+
					s.shelf.Name+" --emptied")
			now = append(now, rel)
		}
	}
	return now, nil
}

// lost reports whether a path lies on what is not mounted now.
func (s *scanner) lost(p string) bool {
	return slices.ContainsFunc(s.missing, func(m string) bool { return p == m || strings.HasPrefix(p, m+"/") })
}

// shut reports whether a folder above could not be listed in this scan. Such
// folders stay in had under the key "!"+path.
func (s *scanner) shut(p string, had map[string]store.Folder) bool {
	for {
		if _, ok := had["!"+p]; ok || strings.HasPrefix(p, "!") {
			return true
		}
		if p == "" {
			return false
		}
		if p = path.Dir(p); p == "." {
			p = ""
		}
	}
}
