package cli

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/library"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/scan"

	"github.com/spf13/cobra"
)

func (a *app) shelfCommand() *cobra.Command {
	c := &cobra.Command{Use: "shelf", Short: "The shelves and what is on them"}
	c.AddCommand(a.shelfListCommand(), a.shelfShowCommand(), a.shelfFindCommand(), a.shelfMatchCommand(),
		a.shelfScanCommand(), a.shelfAddCommand(), a.shelfRemoveCommand())
	return c
}

func (a *app) shelfListCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
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
		a.out.Printf("No shelf yet; add a [[shelf]] section to the household file\n")
		return
	}
	var rows [][]string
	for _, s := range list {
		state := "scanned " + show.When(s.Scanned)
		switch {
		case len(s.Unplugged) > 0:
			state = "unplugged: " + places(s.Unplugged)
		case s.Scanning:
			state = "being scanned"
		case s.Scanned.IsZero():
			state = "waiting for its first scan"
		}
		problems := ""
		if s.Problems > 0 {
			problems = fmt.Sprint(s.Problems)
		}
		rows = append(rows, []string{s.Name, string(s.Kind), string(s.Access), fmt.Sprint(s.Titles),
			fmt.Sprint(s.Files), show.Length(s.Duration), show.Size(s.Size), problems, state})
	}
	a.out.Table([]show.Column{{Head: "shelf", Whole: true}, {Head: "kind", Whole: true, Drop: 2},
		{Head: "access", Whole: true, Drop: 1}, {Head: "titles", Right: true}, {Head: "files", Right: true, Drop: 4},
		{Head: "length", Right: true, Drop: 3}, {Head: "size", Right: true, Drop: 5}, {Head: "problems", Right: true},
		{Head: "state"}}, rows)
}

func (a *app) shelfShowCommand() *cobra.Command {
	var problems bool
	c := a.withJSON(&cobra.Command{
		Use: "show [NAME]", Short: "Every file of a shelf; with no name, the whole library in figures",
		Args: cobra.MaximumNArgs(1),
		Long: "Shows every file of a shelf, and what cannot be read, with the reason. With no name it shows " +
			"the\nwhole library in figures, and what arrived lately. With --problems it lists what somebody " +
			"should\nsee to: files that cannot be read or understood, what is there twice, and what lacks a " +
			"description,\na picture, or subtitles in the household's language.",
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			name := strings.Join(args, "")
			switch {
			case problems:
				list, err := cl.Problems(c.Context(), name)
				if err != nil {
					return err
				}
				if a.json {
					return a.document(list)
				}
				a.showProblems(list)
				return nil
			case name == "":
				l, err := cl.Library(c.Context())
				if err != nil {
					return err
				}
				if a.json {
					return a.document(l)
				}
				a.showLibrary(l)
				return nil
			}
			sh, err := cl.Shelf(c.Context(), name)
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
	c.Flags().BoolVar(&problems, "problems", false, "list what somebody should see to")
	return c
}

// showSeen names what scans found, some of each sort.
func (a *app) showSeen(list []scan.Report) {
	const most = 8 // of a sort, so that all fits on a screen
	for _, sort := range []string{"new", "changed", "moved", "gone", "unreadable", "unclear"} {
		n, all := 0, 0
		for _, r := range list {
			all += map[string]int{"new": r.New, "changed": r.Changed, "moved": r.Moved, "gone": r.Gone,
				"unreadable": r.Unreadable, "unclear": r.Unclear}[sort]
			for _, s := range r.Noted {
				if s.What != sort || n == most {
					continue
				}
				if n++; n == 1 {
					a.out.Printf("\n%s\n", show.Bold(sort))
				}
				a.out.Printf("  %s\n", show.Clean(s.Path))
				if s.Why != "" {
					a.out.Printf("    %s\n", show.Faint(show.Clean(s.Why)))
				}
			}
		}
		if n > 0 && all > n {
			a.out.Printf("  %s\n", show.Faint(fmt.Sprintf("%d in all", all)))
		}
	}
}

// scanProgress tells how far the running scans are, until it is stopped.
func (a *app) scanProgress(ctx context.Context, cl *control.Client) (stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	progress := a.err.Progress("scanning", 0)
	over := make(chan struct{})
	go func() {
		defer close(over)
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(400 * time.Millisecond):
			}
			st, err := cl.Status(ctx)
			if err != nil {
				continue // the scan itself tells
			}
			n, of := 0, 0
			for _, sh := range st.Shelves {
				if sh.Scanning {
					n += sh.Progress.Files
					of += sh.Files
				}
			}
			if n > 0 {
				progress.Of(of)
				progress.At(n)
			}
		}
	}()
	return func() {
		cancel()
		<-over
		progress.End()
	}
}

// showProblems lists what is wrong, by its sort.
func (a *app) showProblems(list []library.Issue) {
	if len(list) == 0 {
		a.out.Printf("%s nothing to see to\n", show.Mark("ok"))
		return
	}
	count := map[library.Sort]int{}
	for _, p := range list {
		count[p.Sort]++
	}
	last := library.Sort("")
	for _, p := range list {
		if p.Sort != last {
			if last != "" {
				a.out.Printf("\n")
			}
			a.out.Printf("%s %s\n", show.Bold(string(p.Sort)), show.Faint(fmt.Sprint(count[p.Sort])))
			last = p.Sort
		}
		a.out.Printf("  %s\n    %s\n", show.Clean(p.Path), show.Faint(show.Clean(p.Title+" · "+p.Says)))
	}
	a.out.Printf("\nnames: cozyshelf tidy · descriptions and pictures: cozyshelf shelf match TITLE\n")
}

// kinds in words: what one title, and one file of it, is called.
var kindWords = map[household.Kind][4]string{
	household.Films: {"film", "films", "file", "files"}, household.Series: {"show", "shows", "episode", "episodes"},
	household.Music:      {"album", "albums", "track", "tracks"},
	household.Photos:     {"set", "sets", "picture", "pictures"},
	household.Recordings: {"recording", "recordings", "file", "files"},
}

func (a *app) showLibrary(l control.Library) {
	if len(l.Kinds) == 0 {
		a.out.Printf("Nothing is on the shelves yet\n")
		return
	}
	var rows [][]string
	var files int
	var length float64
	var bytes int64
	for _, k := range l.Kinds {
		w := kindWords[k.Kind]
		seasons := ""
		if k.Seasons > 0 {
			seasons = show.Count(k.Seasons, "season", "seasons")
		}
		rows = append(rows, []string{string(k.Kind), show.Count(k.Titles, w[0], w[1]), seasons,
			show.Count(k.Files, w[2], w[3]), show.Length(k.Duration), show.Size(k.Size)})
		files, length, bytes = files+k.Files, length+k.Duration, bytes+k.Size
	}
	rows = append(rows, []string{"together", "", "", show.Count(files, "file", "files"), show.Length(length),
		show.Size(bytes)})
	a.out.Table([]show.Column{{Head: "kind", Whole: true}, {Head: "titles", Right: true}, {Head: "", Right: true},
		{Head: "files", Right: true}, {Head: "length", Right: true}, {Head: "size", Right: true}}, rows)
	a.out.Printf("\n")
	rows = nil
	for _, c := range l.Codecs {
		rows = append(rows, []string{c.Content, c.Codec, fmt.Sprint(c.Files), show.Size(c.Size)})
	}
	for _, s := range l.Sizes {
		rows = append(rows, []string{"picture", fmt.Sprintf("up to %d lines", s.Height), fmt.Sprint(s.Files),
			show.Size(s.Size)})
	}
	if len(rows) > 0 {
		a.out.Table([]show.Column{{Head: "what"}, {Head: "codec or height"}, {Head: "files", Right: true},
			{Head: "size", Right: true}}, rows)
	}
	if len(l.Lately) > 0 {
		a.out.Printf("\n%s\n", show.Bold("lately arrived"))
		a.showLately(l.Lately)
	}
}

func (a *app) showLately(list []control.Title) {
	var rows [][]string
	for _, t := range list {
		rows = append(rows, []string{show.When(t.Added), t.Shelf, titled(t), show.Length(t.Duration),
			show.Size(t.Size)})
	}
	a.out.Table([]show.Column{{Head: "when", Whole: true}, {Head: "shelf", Whole: true, Drop: 2},
		{Head: "title", Most: 60}, {Head: "length", Right: true, Drop: 1}, {Head: "size", Right: true, Drop: 3}}, rows)
}

// titled is a title as a person says it.
func titled(t control.Title) string {
	s := t.Name
	if t.By != "" {
		s = t.By + ": " + s
	}
	if t.Year > 0 {
		s += fmt.Sprintf(" (%d)", t.Year)
	}
	return s
}

func (a *app) shelfFindCommand() *cobra.Command {
	limit := 20
	c := a.withJSON(&cobra.Command{
		Use: "find WORD…", Short: "Find titles and parts by words, or their beginnings", Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			list, err := cl.Search(c.Context(), strings.Join(args, " "), limit)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(list)
			}
			if len(list) == 0 {
				a.out.Printf("Nothing has these words\n")
				return nil
			}
			var rows [][]string
			for _, h := range list {
				rows = append(rows, []string{h.Title.Shelf, titled(h.Title), h.Part,
					show.Count(h.Title.Parts, "file", "files"), show.Length(h.Title.Duration)})
			}
			a.out.Table([]show.Column{{Head: "shelf", Whole: true, Drop: 2}, {Head: "title", Most: 60},
				{Head: "part", Most: 40}, {Head: "", Right: true, Drop: 1}, {Head: "length", Right: true, Drop: 3}},
				rows)
			return nil
		},
	})
	c.Flags().IntVar(&limit, "limit", limit, "how many at most (1 to 200)")
	return c
}

func (a *app) showShelf(sh control.ShelfFiles) {
	a.out.Printf("%s %s\n", show.Bold(sh.Name),
		show.Faint(fmt.Sprintf("· %s · %s · %s, %s, %s", sh.Kind, strings.Join(sh.Folders, ", "),
			show.Count(sh.Titles, "title", "titles"), show.Count(sh.Files, "file", "files"), show.Size(sh.Size))))
	for _, f := range sh.Unplugged {
		warning(a.out, 0, "%s is unplugged: %s; what was known of it is kept", f.Folder, f.Why)
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
			rows = append(rows, []string{mark, name, year, strings.TrimSpace(f.Day() + " " + f.Label()),
				show.Length(f.Duration), size(f.Media.First(media.Video)), f.Media.Codecs(), show.Size(f.Size),
				path.Base(f.Path)})
		}
	}
	a.out.Table([]show.Column{{Head: ""}, {Head: "title", Most: 60}, {Head: "year", Drop: 5}, {Head: "part", Most: 40},
		{Head: "length", Right: true, Drop: 4}, {Head: "picture", Drop: 2}, {Head: "codecs", Drop: 1},
		{Head: "size", Right: true, Drop: 3}, {Head: "file"}}, rows)
	for _, p := range sh.FolderProblems {
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

// places names the folders that are unplugged.
func places(list []scan.Unplugged) string {
	var out []string
	for _, f := range list {
		out = append(out, f.Folder)
	}
	return strings.Join(out, ", ")
}

func (a *app) shelfScanCommand() *cobra.Command {
	var emptied, gently bool
	c := &cobra.Command{
		Use: "scan [NAME | FOLDER]", Short: "Look for what is new, changed or gone", Args: cobra.MaximumNArgs(1),
		Long: "Looks for what is new, changed or gone: on all shelves, on one, or in one folder of a " +
			"shelf\n(written with a slash, such as ./films or /srv/media/films/new) and all below it.",
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			name, folder := strings.Join(args, ""), ""
			if strings.Contains(name, "/") {
				if folder, err = filepath.Abs(name); err != nil {
					return err
				}
				if st, err := os.Lstat(folder); err == nil && !st.IsDir() {
					return &problem.Problem{What: folder + " cannot be scanned", Why: "it is no folder",
						Fix: "name the folder that it lies in", Exit: problem.ExitUsage}
				}
				name = ""
			}
			stop := a.scanProgress(c.Context(), cl)
			list, err := cl.Scan(c.Context(), name, folder, emptied, gently)
			stop()
			if err != nil {
				return err
			}
			if a.json {
				return a.document(list)
			}
			var rows [][]string
			unreadable := 0
			var away []scan.Unplugged
			for _, r := range list {
				note := ""
				if len(r.Unplugged) > 0 {
					note = "unplugged, remembered: " + places(r.Unplugged)
					away = append(away, r.Unplugged...)
				}
				unreadable += r.Unreadable
				rows = append(rows, []string{r.Shelf, fmt.Sprint(r.Files), fmt.Sprint(r.New), fmt.Sprint(r.Changed),
					fmt.Sprint(r.Moved), fmt.Sprint(r.Gone), fmt.Sprint(r.Unreadable), fmt.Sprint(r.Unclear),
					fmt.Sprint(r.Samples), fmt.Sprint(r.Passed), fmt.Sprintf("%.2f s", r.Seconds), note})
			}
			a.out.Table([]show.Column{{Head: "shelf", Whole: true}, {Head: "files", Right: true},
				{Head: "new", Right: true}, {Head: "changed", Right: true}, {Head: "moved", Right: true, Drop: 5},
				{Head: "gone", Right: true}, {Head: "unreadable", Right: true},
				{Head: "name not understood", Right: true, Drop: 4}, {Head: "samples", Right: true, Drop: 1},
				{Head: "other files", Right: true, Drop: 2}, {Head: "took", Right: true, Drop: 3}, {Head: ""}}, rows)
			for _, f := range away {
				a.out.Printf("\n")
				warning(a.out, 0, "%s: %s", f.Folder, f.Why)
			}
			a.showSeen(list)
			if unreadable > 0 {
				a.out.Printf("\nAll that cannot be read or lacks something: cozyshelf shelf show NAME --problems\n")
			}
			return nil
		},
	}
	c.Flags().BoolVar(&emptied, "emptied", false,
		"a folder with nothing in it was emptied; it is not the place of a disk that is unplugged")
	c.Flags().BoolVar(&gently, "gently", false, "give way to all else on the machine: takes longer")
	return a.withJSON(c)
}
