package api

import (
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/store"
)

// The documents of the API. openapi.json describes them.
type (
	apiMember struct {
		Name   string         `json:"name"`
		Role   allowance.Role `json:"role"`
		Away   bool           `json:"away"`
		Device string         `json:"device"`
	}
	apiToken struct {
		Token   string    `json:"token"`
		Expires time.Time `json:"expires"`
		Member  string    `json:"member"`
	}
	apiShelf struct {
		Name      string         `json:"name"`
		Kind      household.Kind `json:"kind"`
		Titles    int            `json:"titles"`
		Files     int            `json:"files"`
		Duration  float64        `json:"duration"`
		Size      int64          `json:"size"`
		Unplugged bool           `json:"unplugged"`
	}
	// A title as a list has it.
	apiTitle struct {
		ID       int64          `json:"id"`
		Shelf    string         `json:"shelf"`
		Kind     household.Kind `json:"kind"`
		Name     string         `json:"name"`
		Year     int            `json:"year,omitempty"`
		By       string         `json:"by,omitempty"`
		Parts    int            `json:"parts"`
		Duration float64        `json:"duration"`
		Size     int64          `json:"size"`
		Problems int            `json:"problems"`
		Age      *int           `json:"age,omitempty"`
		Added    time.Time      `json:"added"`
	}
	// A title with its files.
	apiWhole struct {
		apiTitle
		Files []apiFile `json:"files"`
	}
	apiFile struct {
		ID       int64           `json:"id"`
		Title    int64           `json:"title"`
		Shelf    string          `json:"shelf"`
		Path     string          `json:"path"`
		Season   int             `json:"season,omitempty"`
		Episode  int             `json:"episode,omitempty"`
		Part     string          `json:"part,omitempty"`
		Content  string          `json:"content"`
		Size     int64           `json:"size"`
		Modified time.Time       `json:"modified"`
		Duration float64         `json:"duration"`
		Media    media.Info      `json:"media,omitzero"`
		Problem  string          `json:"problem,omitempty"`
		Note     string          `json:"note,omitempty"`
		Last     int             `json:"last_episode,omitempty"`
		Disc     int             `json:"disc,omitempty"`
		Piece    int             `json:"piece,omitempty"`
		Date     string          `json:"date,omitempty"`
		Edition  string          `json:"edition,omitempty"`
		Extra    string          `json:"extra,omitempty"`
		Outside  string          `json:"outside_id,omitempty"`
		Added    time.Time       `json:"added"`
		Beside   []naming.Beside `json:"beside,omitempty"`
		ResumeAt float64         `json:"resume_at"`
		Seen     bool            `json:"seen"`
		Chapters []media.Chapter `json:"chapters,omitempty"`
		Loudness *media.Loud     `json:"loudness,omitempty"`
	}
	apiHit struct {
		Title apiTitle `json:"title"`
		File  int64    `json:"file,omitempty"`
		Part  string   `json:"part,omitempty"`
	}
	apiTitles struct {
		Titles []apiTitle `json:"titles"`
		Next   string     `json:"next,omitempty"` // where those after them begin
	}
	// The answers of RFC 8628 and RFC 6749, which say so themselves.
	apiPairing struct {
		DeviceCode  string `json:"device_code"`
		UserCode    string `json:"user_code"`
		URI         string `json:"verification_uri"`
		URIComplete string `json:"verification_uri_complete"`
		Expires     int    `json:"expires_in"`
		Interval    int    `json:"interval"`
	}
	apiGrant struct {
		Token   string `json:"access_token"`
		Type    string `json:"token_type"`
		Expires int    `json:"expires_in"`
	}
	apiTokenError struct {
		Error string `json:"error"`
		Says  string `json:"error_description"`
	}
	// Who watches something together on one device.
	apiSofa struct {
		Members  []string `json:"members"`  // beside the member whose device it is
		Proposed []string `json:"proposed"` // as it was the last time on this device
		People   []string `json:"people"`   // who may be named
	}
	apiSitting struct {
		Members []string `json:"members"`
		TheyMay bool     `json:"they_may"` // an adult says that it is for children who are named
	}
	// A film that is watched together apart.
	apiRoomOpened struct {
		ID  string `json:"id"`
		URL string `json:"url"` // of the page that others open
	}
	apiRoom struct {
		File     int64    `json:"file"`
		Title    string   `json:"title"`
		Playing  bool     `json:"playing"`
		Position float64  `json:"position"` // now
		Change   int      `json:"change"`   // counts what was done
		By       string   `json:"by"`
		Members  []string `json:"members"`
	}
	apiInRoom struct {
		Playing  bool    `json:"playing"`
		Position float64 `json:"position"`
	}
	// A play that is over, of which a device tells afterwards.
	apiTold struct {
		Started  time.Time `json:"started_at"`
		Ended    time.Time `json:"ended_at"`
		From     float64   `json:"from_position"`
		Position float64   `json:"position"`
		Watched  float64   `json:"watched"`
	}
	apiPosition struct {
		Position float64 `json:"position"`
		State    string  `json:"state"` // playing, paused or stopped
	}
	apiPlay struct {
		Play     int64   `json:"play"`
		Position float64 `json:"position"`
		Watched  float64 `json:"watched"`
		// Whether the member may go on; until when, where that ends within a day, and why.
		Allowed bool      `json:"allowed"`
		Until   time.Time `json:"allowed_until,omitzero"`
		Reason  string    `json:"allowed_reason,omitempty"`
		Sofa    []apiSeat `json:"sofa,omitempty"`
	}
	// apiSeat is a child that watches along, whose time is bounded.
	apiSeat struct {
		Member  string    `json:"member"`
		Allowed bool      `json:"allowed"`
		Until   time.Time `json:"allowed_until,omitzero"`
		Reason  string    `json:"allowed_reason,omitempty"`
	}
)

// titleOf turns a row of the store into a document.
// apiLibrary is the library in figures.
type apiLibrary struct {
	Shelves []apiShelf `json:"shelves"`
	Lately  []apiTitle `json:"lately"` // what arrived last
}

func titleOf(t store.Title) apiTitle {
	return apiTitle{ID: t.ID, Shelf: t.Shelf, Kind: t.Kind, Name: t.Name, Year: t.Year, By: t.By, Parts: t.Parts,
		Duration: t.Duration, Size: t.Size, Problems: t.Problems, Age: t.Age, Added: t.Added}
}

func titlesOf(list []store.Title) []apiTitle {
	out := make([]apiTitle, 0, len(list))
	for _, t := range list {
		out = append(out, titleOf(t))
	}
	return out
}

// fileOf turns a row of the store into a document.
func fileOf(f store.File) apiFile {
	return apiFile{ID: f.ID, Title: f.Title, Shelf: f.Shelf, Path: f.Path, Season: f.Season, Episode: f.Episode,
		Part:    f.Part,
		Content: f.Content, Size: f.Size, Modified: f.Modified, Duration: f.Duration, Media: f.Media,
		Problem: f.Problem,
		Note:    f.Note, Last: f.Last, Disc: f.Disc, Piece: f.Piece, Date: f.Date, Edition: f.Edition, Extra: f.Extra,
		Outside: f.Outside, Added: f.Added, Beside: f.Beside, ResumeAt: f.ResumeAt, Seen: f.Seen}
}

func hitsOf(list []store.Hit) []apiHit {
	out := make([]apiHit, 0, len(list))
	for _, h := range list {
		out = append(out, apiHit{Title: titleOf(h.Title), File: h.File, Part: h.Part})
	}
	return out
}

type (
	// What a device plays. What is left out means H.264 and AAC in MP4.
	apiAbilities struct {
		Device      string   `json:"device"` // player or television, for what such devices play
		Containers  []string `json:"containers"`
		Video       []string `json:"video"` // RFC 6381, or the codec's common name
		Audio       []string `json:"audio"`
		MaxHeight   *int     `json:"max_height"`
		MaxChannels *int     `json:"max_channels"`
		HDR         *bool    `json:"hdr"`
		Subtitles   []string `json:"subtitles"`
		Sound       int      `json:"sound"` // the track of sound that was chosen, counted from 1
		Burn        int      `json:"burn"`  // the track of subtitles to be drawn into the picture
		Lines       int      `json:"lines"` // of the picture, at most
		Night       bool     `json:"night"` // loud parts no louder than others
	}
	// How a file reaches a device.
	apiDelivery struct {
		As        string      `json:"as"` // as-it-is, repacked or converted
		Picture   apiPicture  `json:"picture"`
		Sound     apiSound    `json:"sound"`
		Subtitles []apiText   `json:"subtitles"`
		Reasons   []apiReason `json:"reasons"`
		URL       string      `json:"url"` // of the file, or of a multivariant playlist
	}
	apiPicture struct {
		As      string `json:"as"` // copied, converted or none
		Codec   string `json:"codec,omitempty"`
		RFC6381 string `json:"rfc6381,omitempty"`
		Width   int    `json:"width,omitempty"`
		Height  int    `json:"height,omitempty"`
		Way     string `json:"way,omitempty"` // software, or the graphics interface
	}
	apiSound struct {
		As       string `json:"as"`
		Track    int    `json:"track,omitempty"`
		Codec    string `json:"codec,omitempty"`
		RFC6381  string `json:"rfc6381,omitempty"`
		Channels int    `json:"channels,omitempty"`
	}
	apiText struct {
		As       string `json:"as"` // apart, drawn or none
		Track    int    `json:"track"`
		Codec    string `json:"codec"`
		Language string `json:"language,omitempty"`
		URL      string `json:"url,omitempty"` // of all of it, as WebVTT
	}
	// A copy that is made beforehand.
	apiPrepared struct {
		ID      int64               `json:"id"`
		File    int64               `json:"file"`
		Height  int                 `json:"height"` // lines at most
		For     string              `json:"for,omitempty"`
		State   store.PreparedState `json:"state"`
		Done    float64             `json:"done"` // seconds of film
		Length  float64             `json:"length"`
		Bytes   int64               `json:"bytes"` // expected until it is ready
		Problem string              `json:"problem,omitempty"`
		URL     string              `json:"url,omitempty"` // once it is ready
	}
	apiReason struct {
		Code string `json:"code"`
		Text string `json:"text"`
	}
)
