package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/machine"

	"github.com/spf13/cobra"
)

// forecastReport is the document of usage forecast.
type forecastReport struct {
	Disks []usage.Forecast `json:"disks"`
	Frees []usage.Frees    `json:"frees"`
	// Unknown are folders of which this machine does not see the disk.
	Unknown []string `json:"unknown"`
}

func (a *app) usageForecastCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "forecast", Short: "When the disks are full, and what would free most",
		Long: `Says when each disk with shelves is full, if things go on arriving as they did within the last half year, and what
would free most: what was seen long ago, what nobody watches, what is there twice, and what is very large for what it is.
It only says; nothing is removed.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if limit < 0 {
				return wrongUse(c, "--limit takes a number of rows")
			}
			h, err := a.open(c.Context())
			if err != nil {
				return err
			}
			cl, now := h.Client(), time.Now()
			var files []usage.Stored
			doc := forecastReport{Disks: []usage.Forecast{}, Unknown: []string{}}
			var disks []usage.Disk
			shelves, err := contents(c.Context(), cl)
			if err != nil {
				return err
			}
			for _, sh := range shelves {
				for _, t := range sh.Contents {
					for _, f := range t.Files {
						files = append(files, storedOf(t.Title, f))
					}
				}
				for _, folder := range sh.Folders {
					if household.IsShare(folder) || h.Facts.Elsewhere {
						doc.Unknown = append(doc.Unknown, folder)
						continue
					}
					point, free, total, err := machine.Disk(folder)
					if err != nil {
						doc.Unknown = append(doc.Unknown, folder)
						continue
					}
					i := slices.IndexFunc(disks, func(d usage.Disk) bool { return d.Name == point })
					if i < 0 {
						disks = append(disks, usage.Disk{Name: point, Free: free, Total: total})
						i = len(disks) - 1
					}
					if !slices.Contains(disks[i].Shelves, sh.Name) {
						disks[i].Shelves = append(disks[i].Shelves, sh.Name)
					}
				}
			}
			for _, d := range disks {
				doc.Disks = append(doc.Disks, usage.Foretell(d, files, now))
			}
			watched, err := cl.WatchedTitles(c.Context())
			if err != nil {
				return err
			}
			doc.Frees = usage.FreesMost(files, watched, now, limit)
			if a.json {
				return a.document(doc)
			}
			a.showForecast(doc)
			return nil
		},
	}
	c.Flags().IntVar(&limit, "limit", 10, "at most so many of what would free most; 0 for all")
	return a.withJSON(c)
}

// storedOf is a file as a forecast sees it.
func storedOf(t control.Title, f control.File) usage.Stored {
	video := f.Media.First(media.Video)
	return usage.Stored{Title: t.ID, Name: t.Name, Shelf: t.Shelf, Added: f.Added, Size: f.Size, Length: f.Duration,
		Lines: min(video.Width, video.Height),
		Same:  fmt.Sprint(f.Season, f.Episode, f.Last, f.Disc, f.Piece, f.Date, f.Edition, f.Extra, "\x00", f.Part)}
}

// freesWords are reasons in a sentence.
var freesWords = map[usage.Reason]string{
	usage.SeenLongAgo: "seen to the end by all who began it, and not watched for half a year",
	usage.NeverSeen:   "not watched by anybody, and here for two years",
	usage.Twice:       "the same part is there more than once",
	usage.TooLarge:    "three times as large as others of its picture; a copy of the usual size would do"}

func (a *app) showForecast(doc forecastReport) {
	var rows [][]string
	for _, f := range doc.Disks {
		grows, full := "not known yet", fmt.Sprintf("%s of arrivals are needed", show.Count(14, "day", "days"))
		if f.Days > 0 {
			grows = fmt.Sprintf("%s a week (%s to %s)", show.Size(int64(f.Daily*7)), show.Size(int64(f.Least*7)),
				show.Size(int64(f.Most*7)))
			full = "not within ten years"
			if !f.Full.IsZero() {
				full = f.Full.Format("January 2006")
			}
			switch {
			case !f.Early.IsZero() && !f.Late.IsZero():
				full += fmt.Sprintf(" (%s to %s)", f.Early.Format("January 2006"), f.Late.Format("January 2006"))
			case !f.Early.IsZero():
				full += fmt.Sprintf(" (%s at the earliest)", f.Early.Format("January 2006"))
			}
		}
		rows = append(rows, []string{f.Name, strings.Join(f.Shelves, ", "), show.Size(f.Free) + " of " + show.Size(f.Total),
			grows, full})
	}
	a.out.Table([]show.Column{{Head: "disk", Whole: true}, {Head: "shelves", Drop: 1}, {Head: "free", Whole: true},
		{Head: "arrives", Whole: true, Drop: 2}, {Head: "full", Whole: true}}, rows)
	for _, f := range doc.Unknown {
		a.out.Printf("of %s this machine does not see the disk\n", show.Clean(f))
	}
	if len(doc.Frees) == 0 {
		a.out.Printf("\nNothing stands out that would free much\n")
		return
	}
	a.out.Printf("\nWould free most; nothing is removed by this:\n")
	rows = nil
	for _, f := range doc.Frees {
		rows = append(rows, []string{show.Size(f.Bytes), show.Clean(f.Name), show.Clean(f.Shelf), show.Count(f.Files,
			"file", "files"),
			freesWords[f.Why]})
	}
	a.out.Table([]show.Column{{Head: "frees", Right: true}, {Head: "title", Most: 50}, {Head: "shelf", Whole: true,
		Drop: 2},
		{Head: "", Drop: 1}, {Head: "why"}}, rows)
}
