package cli

import (
	"fmt"
	"path"
	"strings"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/store"

	"github.com/spf13/cobra"
)

func (a *app) shelfCommand() *cobra.Command {
	c := &cobra.Command{Use: "shelf", Short: "The shelves and what is on them"}
	c.AddCommand(a.shelfListCommand(), a.shelfShowCommand(), a.shelfScanCommand(), a.shelfAddCommand(), a.shelfRemoveCommand())
	return c
}

func (a *app) shelfListCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "list", Short: "The shelves with their figures", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			st, err := cl.Status(c.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.document(st.Shelves)
			}
			a.showShelves(st.Shelves)
			return nil
		},
	})
}

func (a *app) showShelves(list []control.Shelf) {
	if len(list) == 0 {
		a.out.Printf("no shelf yet; add a [[shelf]] section to the household file\n")
		return
	}
	var rows [][]string
	for _, s := range list {
		state := "scanned " + show.When(s.Scanned)
		switch {
		case len(s.Away) > 0:
			state = "away: " + places(s.Away)
		case s.Scanning:
			state = "being scanned"
		case s.Scanned.IsZero():
			state = "waiting for its first scan"
		}
		problems := ""
		if s.Problems > 0 {
			problems = fmt.Sprint(s.Problems)
		}
		rows = append(rows, []string{s.Name, string(s.Kind), string(s.Access), fmt.Sprint(s.Titles), fmt.Sprint(s.Files), show.Length(s.Duration), show.Size(s.Size), problems, state})
	}
	a.out.Table([]show.Column{{Head: "shelf"}, {Head: "kind"}, {Head: "access"}, {Head: "titles", Right: true}, {Head: "files", Right: true}, {Head: "length", Right: true}, {Head: "size", Right: true}, {Head: "problems", Right: true}, {Head: "state"}}, rows)
}

func (a *app) shelfShowCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "show NAME", Short: "Every file of a shelf, and what cannot be read, with the reason", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			sh, err := cl.Shelf(c.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.document(sh)
			}
			a.showShelf(sh)
			return nil
		},
	})
}

func (a *app) showShelf(sh control.ShelfFiles) {
	a.out.Printf("%s %s\n", show.Bold(sh.Name), show.Faint(fmt.Sprintf("· %s · %s · %s, %s, %s", sh.Kind, strings.Join(sh.Folders, ", "), show.Count(sh.Titles, "title", "titles"), show.Count(sh.Files, "file", "files"), show.Size(sh.Size))))
	for _, f := range sh.Away {
		a.out.Printf("%s %s is away: %s\n         what was known of it is kept\n", show.Mark("warning"), show.Clean(f.Folder), show.Clean(f.Why))
	}
	a.out.Printf("\n")
	var rows [][]string
	var problems, notes []string
	for _, t := range sh.Contents {
		year := ""
		if t.Year > 0 {
			year = fmt.Sprint(t.Year)
		}
		name := t.Name
		if t.By != "" {
			name = t.By + ": " + name
		}
		for i, f := range t.Files {
			if i > 0 {
				name, year = "", ""
			}
			mark := ""
			if f.Problem != "" {
				mark = "✗"
				problems = append(problems, fmt.Sprintf("%s: %s", f.Path, f.Problem))
			} else if f.Note != "" {
				mark = "?"
				notes = append(notes, fmt.Sprintf("%s: %s", f.Path, f.Note))
			}
			rows = append(rows, []string{mark, name, year, part(f), show.Length(f.Duration), size(f.Media.First(media.Video)), f.Media.Codecs(), show.Size(f.Size), path.Base(f.Path)})
		}
	}
	a.out.Table([]show.Column{{Head: ""}, {Head: "title", Most: 44}, {Head: "year"}, {Head: "part", Most: 22}, {Head: "length", Right: true}, {Head: "picture"}, {Head: "codecs"}, {Head: "size", Right: true}, {Head: "file", Most: 46}}, rows)
	for _, p := range sh.Problems {
		problems = append(problems, fmt.Sprintf("%s: %s", path.Join(p.Root, p.Path), p.Problem))
	}
	for _, l := range []struct {
		head, mark string
		list       []string
	}{{"cannot be read", "✗", problems}, {"not understood", "?", notes}} {
		if len(l.list) == 0 {
			continue
		}
		a.out.Printf("\n%s\n", show.Bold(l.head))
		for _, s := range l.list {
			a.out.Printf("%s %s\n", l.mark, show.Clean(s))
		}
	}
}

func size(t media.Track) string {
	if t.Width == 0 {
		return ""
	}
	return fmt.Sprintf("%d×%d", t.Width, t.Height)
}

func part(f store.File) string {
	if f.Season > 0 || f.Episode > 0 && f.Content == "video" {
		return strings.TrimSpace(fmt.Sprintf("S%02dE%02d %s", f.Season, f.Episode, f.Part))
	}
	if f.Episode > 0 {
		return fmt.Sprintf("%d. %s", f.Episode, f.Part)
	}
	return f.Part
}

// places names the folders that are away.
func places(list []scan.Away) string {
	var out []string
	for _, f := range list {
		out = append(out, f.Folder)
	}
	return strings.Join(out, ", ")
}

func (a *app) shelfScanCommand() *cobra.Command {
	var emptied bool
	c := &cobra.Command{
		Use: "scan [NAME]", Short: "Look for what is new, changed or gone", Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			list, err := cl.Scan(c.Context(), strings.Join(args, ""), emptied)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(list)
			}
			var rows [][]string
			failing := 0
			var away []scan.Away
			for _, r := range list {
				note := ""
				if len(r.Away) > 0 {
					note = "away, kept as known: " + places(r.Away)
					away = append(away, r.Away...)
				}
				failing += r.Failing
				rows = append(rows, []string{r.Shelf, fmt.Sprint(r.Files), fmt.Sprint(r.New), fmt.Sprint(r.Changed), fmt.Sprint(r.Gone), fmt.Sprint(r.Failing), fmt.Sprint(r.Passed), fmt.Sprintf("%.2f s", r.Seconds), note})
			}
			a.out.Table([]show.Column{{Head: "shelf"}, {Head: "files", Right: true}, {Head: "new", Right: true}, {Head: "changed", Right: true}, {Head: "gone", Right: true}, {Head: "failing", Right: true}, {Head: "other files", Right: true}, {Head: "took", Right: true}, {Head: ""}}, rows)
			for _, f := range away {
				a.out.Printf("\n%s %s: %s\n", show.Mark("warning"), show.Clean(f.Folder), show.Clean(f.Why))
			}
			if failing > 0 {
				a.out.Printf("\nwhy they fail: cozyshelf shelf show NAME\n")
			}
			return nil
		},
	}
	c.Flags().BoolVar(&emptied, "emptied", false, "a folder with nothing in it was emptied; it is not the place of a disk that is away")
	return a.reads(c)
}
