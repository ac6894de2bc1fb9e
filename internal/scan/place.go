package scan

import (
	"os"
	"path"
	"path/filepath"
	"strings"
)

// Part is some places in a folder of a shelf.
type Part struct {
	Shown  string // the folder, as the administrator wrote it
	Places []Place
}

// Place is a folder below that of a shelf, by itself or with all below it.
type Place struct {
	Path string // below the shelf's folder; empty for itself
	Deep bool
}

// distinct leaves out the places that others hold.
func distinct(places []Place) []Place {
	deep := map[string]bool{}
	for _, p := range places {
		deep[p.Path] = deep[p.Path] || p.Deep
	}
	out := []Place{}
	for at, d := range deep {
		held := false
		for up := at; up != "" && !held; {
			if up = path.Dir(up); up == "." {
				up = ""
			}
			held = deep[up]
		}
		if !held {
			out = append(out, Place{at, d})
		}
	}
	return out
}

// plain reports whether a path below a folder leads there without hidden names and
// symbolic links, which the walk passes over, to a folder or to what is no longer there.
func plain(inside, rel string) bool {
	if rel == "" {
		return true
	}
	at := inside
	for name := range strings.SplitSeq(rel, "/") {
		if name == "" || strings.HasPrefix(name, ".") {
			return false
		}
		at = filepath.Join(at, name)
		if st, err := os.Lstat(at); err == nil && !st.IsDir() {
			return false
		}
	}
	return true
}
