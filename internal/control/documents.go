package control

import (
	"encoding/json"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/library"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/core/reach"
	"cozyshelf/internal/core/usage"
)

// Member is a person with an account.
type Member struct {
	ID      int64          `json:"id"`
	Name    string         `json:"name"`
	Role    allowance.Role `json:"role"`
	Away    bool           `json:"away"`
	Created time.Time      `json:"created_at"`
	Devices int            `json:"devices"`
	Seen    time.Time      `json:"seen_at,omitzero"`
	// What the member may watch.
	Allowed allowance.Allowance `json:"allowance"`
}

// Invite lets one person choose a password, once and for a while.
type Invite struct {
	Name    string              `json:"name"`
	Role    allowance.Role      `json:"role"`
	Away    bool                `json:"away"`
	Allowed allowance.Allowance `json:"allowance"`
	Created time.Time           `json:"created_at,omitzero"`
	Expires time.Time           `json:"expires_at"`
	Path    string              `json:"path,omitempty"` // of the link; told only once
}

// Chart is a chart: columns, or the hours of a heat map.
type Chart struct {
	Columns []usage.Column `json:"columns,omitempty"`
	Heat    [][]float64    `json:"heat,omitempty"`
}

// MonthReport is a report of a month without what is on the shelves, and which works were watched until its end.
type MonthReport struct {
	Report usage.Report `json:"report"`
	Ever   []usage.Work `json:"ever"`
}

// Verified says whether the figures that are kept are what the plays say.
type Verified struct {
	Days    int      `json:"days"`    // that were compared with the plays
	Longer  int      `json:"longer"`  // months, years, and all years before this one, compared with those
	Waiting int      `json:"waiting"` // times of which figures are not kept yet
	Wrong   []string `json:"wrong"`   // what is wrong, as far as it is named
	Rebuilt bool     `json:"rebuilt"` // they were made anew before
}

// Receiver is somebody who is told of what happens, and how it goes.
type Receiver struct {
	Name     string    `json:"name"`
	To       string    `json:"to"` // webhook, mail, program
	Address  string    `json:"address,omitempty"`
	Events   []string  `json:"events"` // codes; none for the usual ones
	Members  []string  `json:"members"`
	Quiet    string    `json:"quiet,omitempty"`
	Gather   string    `json:"gather,omitempty"`
	Waiting  int64     `json:"waiting"` // notices
	Took     int64     `json:"took"`
	Lost     int64     `json:"given_up"`
	Sent     time.Time `json:"sent_at,omitzero"` // when it last took one
	Failures int       `json:"failures"`         // since then
	Next     time.Time `json:"tried_again_at,omitzero"`
	Problem  string    `json:"problem,omitempty"`
	Gone     bool      `json:"wants_no_more"`
}

// Pending is what waits for a program on the host.
type Pending struct {
	IDs     []int64         `json:"ids"`     // none where nothing waits
	Message json.RawMessage `json:"message"` // one event as CloudEvents has it, or a list of them
	Wait    float64         `json:"wait"`    // seconds until something may be told; 0 where that is not known
}

// Told is what came of telling a program.
type Told struct {
	IDs     []int64 `json:"ids"`
	Problem string  `json:"problem,omitempty"`
}

// Stopped is a stream that was ended.
type Stopped struct {
	Stream int64  `json:"stream"`
	Said   string `json:"said,omitempty"`
}

// Visit is one of the tool's, by the address that people use from outside.
type Visit struct {
	Token   string         `json:"token"`
	Arrived *reach.Arrival `json:"arrived,omitempty"` // nil where it did not come, or not yet
}

// MemberShown is a member with how much it has watched.
type MemberShown struct {
	Member
	Today  float64          `json:"watched_today"`     // seconds that count
	Week   float64          `json:"watched_this_week"` // the same; today is in it
	Now    bool             `json:"may_watch_now"`
	Reason allowance.Reason `json:"reason,omitempty"`    // why not, or why it ends
	Until  time.Time        `json:"changes_at,omitzero"` // when that changes
	Signed []MemberDevice   `json:"signed_in"`
	Titles []TitleRule      `json:"titles"`
	Factor time.Time        `json:"second_factor_at,omitzero"` // since when there is a second factor

	Passkeys []MemberPasskey `json:"passkeys"`
	Password bool            `json:"password"` // there is one; else passkeys are the only way in
	// Made is when a passphrase ends that was made for the member.
	Made time.Time `json:"password_ends_at,omitzero"`
}

// MemberPasskey is a passkey by which a member signs in.
type MemberPasskey struct {
	Name    string    `json:"name"`
	Place   string    `json:"for"` // the server's name for which it was made
	Created time.Time `json:"created_at"`
	Used    time.Time `json:"used_at,omitzero"`
}

// TitleRule is a title that is shown to a member by itself, whatever its age, or hidden.
type TitleRule struct {
	ID    int64  `json:"id"`
	Name  string `json:"name"`
	Shelf string `json:"shelf"`
	Shown bool   `json:"shown"`
}

// MemberDevice is a device that a member has signed in from.
type MemberDevice struct {
	ID      int64     `json:"id"`
	Name    string    `json:"name"`
	Kind    string    `json:"kind"`
	Created time.Time `json:"created_at"`
	Seen    time.Time `json:"seen_at,omitzero"`
	Address string    `json:"address"` // that it had last; empty where that is not known
	Away    bool      `json:"away"`    // which is outside the home
	Second  bool      `json:"second_factor"`
}

// Title is what a person picks from a shelf. Figures count the files that are there.
type Title struct {
	ID       int64          `json:"id"`
	Shelf    string         `json:"shelf"`
	Kind     household.Kind `json:"kind"`
	Name     string         `json:"name"`
	Year     int            `json:"year,omitempty"`
	By       string         `json:"by,omitempty"`
	Parts    int            `json:"parts"`
	Duration float64        `json:"duration"` // of all parts, in seconds
	Size     int64          `json:"size"`     // in bytes
	Problems int            `json:"problems"` // files that cannot be read
	Added    time.Time      `json:"added_at"`
}

// File is one file of a title.
type File struct {
	ID       int64           `json:"id"`
	Title    int64           `json:"title"`
	Shelf    string          `json:"shelf"`
	Path     string          `json:"path"` // below the shelf's folder
	Season   int             `json:"season,omitempty"`
	Episode  int             `json:"episode,omitempty"`
	Last     int             `json:"last_episode,omitempty"` // of several in one file
	Disc     int             `json:"disc,omitempty"`
	Piece    int             `json:"piece,omitempty"` // of one film in several files
	Part     string          `json:"part,omitempty"`
	Date     string          `json:"date,omitempty"`
	Edition  string          `json:"edition,omitempty"`
	Extra    string          `json:"extra,omitempty"` // what sort of extra; empty for the title itself
	Outside  string          `json:"outside_id,omitempty"`
	Content  string          `json:"content"`
	Size     int64           `json:"size"`
	Modified time.Time       `json:"modified_at"`
	Added    time.Time       `json:"added_at"`
	Duration float64         `json:"duration"`
	Media    media.Info      `json:"media,omitzero"`
	Problem  string          `json:"problem,omitempty"`
	Note     string          `json:"note,omitempty"`
	Beside   []naming.Beside `json:"beside,omitempty"` // files that go with it
}

// Label is how the part of its title that it holds is called; empty for a film in one piece.
func (f File) Label() string {
	return naming.Label(naming.Reading{Season: f.Season, Episode: f.Episode, Last: f.Last, Disc: f.Disc,
		Piece: f.Piece, Part: f.Part, Edition: f.Edition, Extra: f.Extra}, naming.Content(f.Content))
}

// Day is when a part was sent, recorded or taken.
func (f File) Day() string { return naming.Day(f.Date) }

// Figures are the figures of one shelf.
type Figures struct {
	Titles   int     `json:"titles"`
	Files    int     `json:"files"`
	Problems int     `json:"problems"` // files that cannot be read, and folders that cannot be listed
	Duration float64 `json:"duration"`
	Size     int64   `json:"size"`
}

// FolderProblem is a folder that could not be listed.
type FolderProblem struct {
	Root    string `json:"root"`
	Path    string `json:"path"`
	Problem string `json:"problem"`
}

// Library is the whole library in figures.
type Library struct {
	Kinds  []library.KindFigures  `json:"kinds"`
	Codecs []library.CodecFigures `json:"codecs"`
	Sizes  []library.SizeFigures  `json:"picture_sizes"`
	Lately []Title                `json:"lately"` // titles with the files that arrived last
}

// Hit is a title, or a part of one, that was searched for.
type Hit struct {
	Title Title  `json:"title"`
	File  int64  `json:"file,omitempty"` // 0 where it is the title
	Part  string `json:"part,omitempty"`
}

// WatchedFile is a file that somebody watches now.
type WatchedFile struct {
	Member string `json:"member"`
	Shelf  string `json:"shelf"`
	Root   string `json:"root"` // the shelf's folder, as the administrator wrote it
	Path   string `json:"path"` // below it
}

// Described is what is known of a title beside its name.
type Described struct {
	describe.Description
	Source     string               `json:"source,omitempty"` // sidecar, file, wikidata, musicbrainz, person
	Edited     []string             `json:"edited"`           // fields that a person set
	Match      describe.Match       `json:"match,omitempty"`
	Looked     time.Time            `json:"looked_at,omitzero"`
	Candidates []describe.Candidate `json:"candidates"`
	From       string               `json:"picture_from,omitempty"` // where the picture is from
}
