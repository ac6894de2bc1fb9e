package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

// undoMade is the kind of an entry that made a file: its SHA-256 tells whether it is still
// that.
const undoMade = "made"

func (a *app) shelfMatchCommand() *cobra.Command {
	var take, pictureFile string
	var none, again, sidecar, yes bool
	var edits []string
	c := a.withJSON(&cobra.Command{
		Use: "match TITLE", Short: "What a title is: its description, what else it may be, and corrections",
		Long: `Shows what is known of a title, where it is from, and which entries of the catalogues it
may be, with the reasons. TITLE is its name, or the beginnings of words of it, or #NUMBER.
What is set here stays: no later scan and no catalogue overwrites it.

Fields for --edit: name, year, summary, people (NAME:ROLE, …), genres (…, …),
age (from which on it is: a number, or a rating board's mark such as "FSK 12"; empty for not known).`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			if take != "" && none || take != "" && again || none && again {
				return wrongUse(c, "give one of --take, --none and --again")
			}
			m := control.Matching{Take: take, None: none, Again: again, Edit: map[string]string{}}
			for _, e := range edits {
				field, value, ok := strings.Cut(e, "=")
				if !ok {
					return wrongUse(c, fmt.Sprintf("%q sets no field; write FIELD=VALUE", e))
				}
				m.Edit[strings.TrimSpace(field)] = value
			}
			if pictureFile != "" {
				if m.Picture, err = os.ReadFile(pictureFile); err != nil {
					return &problem.Problem{What: "the picture cannot be read", Where: pictureFile, Why: err.Error(),
						Fix: "name a file that you may read", Err: err}
				}
			}
			id, err := a.titleOf(c.Context(), cl, args[0])
			if err != nil {
				return err
			}
			var now control.Matched
			if take != "" || none || again || len(m.Edit) > 0 || len(m.Picture) > 0 {
				stop := a.err.Watch("asking the catalogues", show.Time, nil)
				now, err = cl.Match(c.Context(), id, m)
				stop()
			} else {
				now, err = cl.Matched(c.Context(), id)
			}
			if err != nil {
				return err
			}
			if sidecar {
				if err := a.writeSidecar(c.Context(), now, yes); err != nil {
					return err
				}
			}
			if a.json {
				return a.document(now)
			}
			a.showMatch(now)
			return nil
		},
	})
	f := c.Flags()
	f.StringVar(&take, "take", "", "take this entry, such as \"wikidata Q42\"")
	f.BoolVar(&none, "none", false, "it is in no catalogue: forget what was taken, and ask no more")
	f.BoolVar(&again, "again", false, "look it up anew")
	f.StringArrayVar(&edits, "edit", nil, "set FIELD=VALUE; may be given several times")
	f.StringVar(&pictureFile, "picture", "", "a picture to use: JPEG, PNG, GIF or WebP")
	f.BoolVar(&sidecar, "sidecar", false, "write what is known into a file beside the title's, on the shelf (JSON-LD)")
	f.BoolVar(&yes, "yes", false, "do not ask before the sidecar is written")
	return c
}

// titleOf finds the one title that is meant.
func (a *app) titleOf(ctx context.Context, cl *control.Client, text string) (int64, error) {
	if n, ok := strings.CutPrefix(text, "#"); ok {
		if id, err := strconv.ParseInt(n, 10, 64); err == nil {
			return id, nil
		}
	}
	hits, err := cl.Search(ctx, text, 50)
	if err != nil {
		return 0, err
	}
	var list, exact []control.Hit
	for _, h := range hits {
		if h.File != 0 {
			continue
		}
		list = append(list, h)
		if strings.EqualFold(h.Title.Name, text) || strings.EqualFold(titled(h.Title), text) {
			exact = append(exact, h)
		}
	}
	if len(exact) > 0 {
		list = exact
	}
	switch len(list) {
	case 0:
		return 0, &problem.Problem{What: fmt.Sprintf("no title is called %q", text),
			Why: "nothing on the shelves has these words in its name",
			Fix: "cozyshelf shelf find finds titles by the beginnings of words", Exit: problem.ExitUsage}
	case 1:
		return list[0].Title.ID, nil
	}
	var names []string
	for i, h := range list {
		if i == 8 {
			names = append(names, "…")
			break
		}
		names = append(names, fmt.Sprintf("#%d %s on %s", h.Title.ID, titled(h.Title), h.Title.Shelf))
	}
	return 0, &problem.Problem{What: fmt.Sprintf("%q may be several titles", text), Why: strings.Join(names, "; "),
		Fix: "give more of its name, or its number with #", Exit: problem.ExitUsage}
}

func (a *app) showMatch(m control.Matched) {
	d := m.Described
	a.out.Printf("%s %s\n", show.Bold(show.Clean(titled(m.Title))),
		show.Faint(fmt.Sprintf("#%d · %s", m.Title.ID, m.Title.Shelf)))
	from := map[string]string{"": "nothing describes it", "sidecar": "from a sidecar beside it",
		"file": "from its files' own tags", "person": "from you"}[d.Source]
	if from == "" {
		from = "from " + d.Source + " (" + d.Outside + ")"
	}
	switch d.Match {
	case describe.Taken:
		from += ", taken because it is clear"
	case describe.Chosen:
		from += ", chosen by hand"
	case describe.None:
		from += "; you said that it is in no catalogue"
	case describe.Unclear:
		from += "; several entries may be it, and none clearly"
	case describe.Unknown:
		from += "; no catalogue has anything like it"
	case describe.Failed:
		from += "; no catalogue could be asked, it is tried again"
	}
	a.out.Printf("  %s\n", show.Clean(from))
	if len(d.Edited) > 0 {
		a.out.Printf("  %s\n", show.Faint("set by hand, and never overwritten: "+strings.Join(d.Edited, ", ")))
	}
	if d.Summary != "" {
		a.out.Printf("\n")
		for _, l := range a.out.Lines(show.Clean(d.Summary), 2) {
			a.out.Printf("  %s\n", l)
		}
	}
	picture := "drawn from its name"
	if d.Picture != "" {
		if picture = d.From; strings.Contains(picture, "://") {
			picture = "from the catalogue"
		} else {
			picture = "from " + picture
		}
	}
	var rows [][]string
	for _, p := range d.People {
		rows = append(rows, []string{"  " + p.Role, p.Name})
	}
	if len(d.Genres) > 0 {
		rows = append(rows, []string{"  genres", strings.Join(d.Genres, ", ")})
	}
	if d.Age != nil && *d.Age == 0 {
		rows = append(rows, []string{"  age", "for everybody"})
	} else if d.Age != nil {
		rows = append(rows, []string{"  age", fmt.Sprintf("from %d years on", *d.Age)})
	}
	a.out.Table([]show.Column{{}, {}}, append(rows, []string{"  picture", picture}))
	if len(d.Candidates) > 0 {
		a.out.Printf("\n%s\n", show.Bold("entries it may be"))
		for _, c := range d.Candidates {
			name := c.Name
			if c.By != "" {
				name = c.By + ": " + name
			}
			if c.Year > 0 {
				name += fmt.Sprintf(" (%d)", c.Year)
			}
			mark := " "
			if c.ID == d.Outside {
				mark = "●"
			}
			a.out.Printf("%s %3d %%  %s  %s\n", mark, int(math.Round(c.Score*100)), show.Clean(c.ID), show.Clean(name))
			if c.Says != "" {
				a.out.Printf("           %s\n", show.Clean(c.Says))
			}
			a.out.Printf("           %s\n", show.Faint(show.Clean(strings.Join(c.Reasons, "; "))))
		}
		a.out.Printf("\nTake one: cozyshelf shelf match \"#%d\" --take ID; or none of them: --none\n", m.Title.ID)
	} else if len(m.Catalogues) == 0 {
		a.out.Printf("\n%s\n", show.Faint("no catalogue may be asked; [lookup] sources in the household file "+
			"allows it"))
	}
}

// readPlain reads a file of a shelf, of a size that a sidecar may have.
func readPlain(path string) ([]byte, error) {
	f, err := boundary.PlainFile(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, 16<<20))
}

// writeSidecar writes what is known of a title beside its first file.
func (a *app) writeSidecar(ctx context.Context, m control.Matched, yes bool) error {
	h, err := a.loadLocked(ctx)
	if err != nil {
		return err
	}
	at := ""
	for _, f := range m.Files {
		// The server says where the file is; only folders of the household's shelves are
		// written to.
		ours := fs.ValidPath(f.Path) && slices.ContainsFunc(h.Shelves,
			func(s household.Shelf) bool { return s.Name == m.Title.Shelf && slices.Contains(s.Folders, f.Root) })
		if f.Extra == "" && ours {
			at = filepath.Join(f.Root, strings.TrimSuffix(f.Path, filepath.Ext(f.Path))+".jsonld")
			break
		}
	}
	if at == "" {
		return &problem.Problem{What: "there is nothing to write it beside", Why: "the title has no file of its own",
			Fix: "see cozyshelf shelf show " + m.Title.Shelf}
	}
	d := m.Described.Description
	d.Name, d.Year = m.Title.Name, m.Title.Year
	b, err := describe.WriteSidecar(m.Title.Kind, d)
	if err != nil {
		return &problem.Problem{What: "it has no sidecar", Why: err.Error(), Fix: "films, series and albums have them",
			Exit: problem.ExitUsage}
	}
	sum := sha256.Sum256(b)
	if old, err := readPlain(at); err == nil && sha256.Sum256(old) == sum {
		a.err.Printf("%s says so already\n", show.Clean(at))
		return nil
	}
	a.err.Printf("  • write %s, on the shelf\n", show.Clean(at))
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	id, err := ledger.Begin(h.Storage.State,
		ledger.Entry{At: time.Now(), Who: who(), Command: "shelf match", Action: "sidecar", What: "write " + at,
			Why:  "asked for",
			Undo: &ledger.Undo{Kind: undoMade, Path: at, Data: hex.EncodeToString(sum[:])}})
	if err != nil {
		return &problem.Problem{What: "the ledger could not be written, so nothing was", Where: h.Storage.State,
			Why: err.Error(), Fix: "run it as root, or as the run-as account", Err: err}
	}
	if err := atomicfile.Create(at, b, 0o644, atomicfile.OwnerOf(filepath.Dir(at))); err != nil {
		_ = ledger.End(h.Storage.State, id, err.Error()) // the error below tells
		p := &problem.Problem{What: "the sidecar could not be written", Where: at, Why: err.Error(),
			Fix: "run it as root, or as who owns the folder", Err: err}
		if errors.Is(err, fs.ErrExist) {
			p.Why, p.Fix = "there is one already, and nothing is written over", "move it away, if it is not wanted"
		}
		return p
	}
	a.err.Printf("Entry %d: wrote %s\n", id, show.Clean(at))
	return ledger.End(h.Storage.State, id, "done")
}
