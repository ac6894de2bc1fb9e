// Package control is how the tool talks to its server: HTTP over a Unix socket
// in the state folder. Who can open the socket administers the server. Where it
// cannot be opened but the engine can be used, the same requests go through a
// command inside the container.
package control

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/capacity"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/core/library"
	"cozyshelf/internal/core/line"
	"cozyshelf/internal/core/right"
	"cozyshelf/internal/core/today"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/scan"

	"golang.org/x/sys/unix"
)

// Socket is the socket's name in the state folder.
const Socket = layout.Socket

// Status is what the server says of itself.
type Status struct {
	Version string    `json:"version"`
	Started time.Time `json:"started_at"`
	Ready   bool      `json:"ready"`
	Problem string    `json:"problem,omitempty"`
	Members int       `json:"members"`
	Streams int       `json:"streams"`
	Shelves []Shelf   `json:"shelves"`
	Format  int       `json:"store_format"`
	Memory  int64     `json:"memory"` // resident, in bytes

	Condition Condition    `json:"condition"`
	Fix       string       `json:"fix,omitempty"` // of the problem
	Processor float64      `json:"processor"`     // seconds of processor time so far
	Free      int64        `json:"state_free"`    // bytes free where the state folder lies
	Backup    *Backup      `json:"backup,omitempty"`
	Quiet     *Quiet       `json:"quiet,omitempty"`
	Convert   *Converting  `json:"convert,omitempty"` // nil where nothing is to be converted
	Door      Door         `json:"door"`
	Jobs      []Job        `json:"jobs"`
	Listeners []Listener   `json:"listeners"`
	Today     []today.Line `json:"today"` // what matters now, in five lines

	Certificate *Certificate `json:"certificate,omitempty"` // nil for no HTTPS of the server's own
	Name        *line.Report `json:"name,omitempty"`        // of remote.address; nil where nothing looks after it
}

// Job is something that the server does beside answering.
type Job struct {
	Name    string    `json:"name"`
	Running bool      `json:"running"`
	Started time.Time `json:"started_at"`
	Ended   time.Time `json:"ended_at,omitzero"`
}

// Listener is an address that the server listens on.
type Listener struct {
	Purpose string `json:"purpose"`
	Address string `json:"address"` // as the server sees it
	TLS     bool   `json:"tls"`
}

// Certificate is that of the server's own HTTPS.
type Certificate struct {
	From    string    `json:"from"`                // home, files, acme
	Names   []string  `json:"names"`               // that it is good for
	Missing []string  `json:"missing"`             // names of the server that it is not good for
	Issuer  string    `json:"issuer,omitempty"`    // who vouches for it
	Ends    time.Time `json:"ends_at,omitzero"`    // when it ends
	Problem string    `json:"problem,omitempty"`   // what is wrong
	Print   string    `json:"authority,omitempty"` // SHA-256 of the household's own authority, in hexadecimal
	PEM     string    `json:"authority_pem,omitempty"`
}

// Door is the connections to the published port.
type Door struct {
	Connections int   `json:"connections"`
	Peak        int   `json:"peak"`
	Most        int   `json:"most"`
	Turned      int64 `json:"turned_away"` // that gave way to others, or were refused
	Deliveries  int   `json:"deliveries"`  // files that are being sent
	MostEach    int   `json:"most_deliveries"`
}

// Quiet is the work of quiet hours.
type Quiet struct {
	Work    []string       `json:"work"`
	Hours   string         `json:"hours"`
	Now     bool           `json:"now"`               // it is one
	Left    map[string]int `json:"left"`              // files, by the work
	Problem string         `json:"problem,omitempty"` // why it cannot be done
}

// Converting is how pictures are made anew, and which are being made.
type Converting struct {
	Ways     []ConvertingWay `json:"ways"`
	AtOnce   int             `json:"at_once"`
	Scratch  int64           `json:"scratch"` // bytes kept there
	Measured time.Time       `json:"measured_at,omitzero"`
	Streams  []Conversion    `json:"streams"`
	Problem  string          `json:"problem,omitempty"` // why nothing can be converted
}

// ConvertingWay is a way that was tried.
type ConvertingWay struct {
	Name  string `json:"name"`
	Codec string `json:"codec"`
	Why   string `json:"problem,omitempty"` // why it does not work
}

// Conversion is a picture that is being made.
type Conversion struct {
	Title   string  `json:"title"`
	Height  int     `json:"height"`
	Bitrate int64   `json:"bitrate"`
	Way     string  `json:"way"`
	Speed   float64 `json:"speed"` // seconds of film a second, while it works
	Viewers int     `json:"viewers"`
}

// MeasureLine is one line of what the server says while it measures: a step, or the end.
type MeasureLine struct {
	What     string             `json:"what,omitempty"`
	Done     int                `json:"done,omitempty"`
	Of       int                `json:"of,omitempty"`
	Measured *capacity.Measured `json:"measured,omitempty"`
	Problem  *problem.Problem   `json:"problem,omitempty"`
}

// Preparing asks for copies of a title.
type Preparing struct {
	Title  int64  `json:"title"`
	Height int    `json:"height,omitempty"`
	For    string `json:"for,omitempty"`
	Soon   bool   `json:"soon,omitempty"`
}

// Prepared is a copy that is made beforehand.
type Prepared struct {
	ID      int64     `json:"id"`
	Title   string    `json:"title"`
	Part    string    `json:"part"`   // the file's path on its shelf
	Height  int       `json:"height"` // lines at most
	For     string    `json:"for,omitempty"`
	By      string    `json:"asked_by,omitempty"`
	Asked   time.Time `json:"asked_at"`
	Soon    bool      `json:"soon"` // not only at quiet hours
	State   string    `json:"state"`
	Done    float64   `json:"done"` // seconds of film
	Length  float64   `json:"length"`
	Bytes   int64     `json:"bytes"` // expected until it is ready
	Problem string    `json:"problem,omitempty"`
}

// Backup is the server's own backups.
type Backup struct {
	Every   string    `json:"every"`
	Keep    int       `json:"keep"`
	Folder  string    `json:"folder"`
	Last    time.Time `json:"last_at,omitzero"`
	Next    time.Time `json:"next_at,omitzero"`
	Kept    int       `json:"kept"`
	Problem string    `json:"problem,omitempty"` // of the last try
}

// Shelf is one shelf with its figures.
type Shelf struct {
	Name      string           `json:"name"`
	Kind      household.Kind   `json:"kind"`
	Access    household.Access `json:"access"`
	Folders   []string         `json:"folders"`   // as the administrator wrote them
	Unplugged []scan.Unplugged `json:"unplugged"` // what is not there now
	Scanning  bool             `json:"scanning"`
	Progress  Progress         `json:"progress,omitzero"`   // of the scan that is running
	Scanned   time.Time        `json:"scanned_at,omitzero"` // when the last scan ended
	// Mounted is what the server sees mounted below the folders, by their names on the host.
	Mounted []string `json:"mounted,omitempty"`
	Figures
}

// Progress is how much a scan has looked at.
type Progress struct {
	Folders int `json:"folders"`
	Files   int `json:"files"`
}

// ShelfFiles is one shelf with all that is on it.
type ShelfFiles struct {
	Shelf
	Contents       []TitleFiles    `json:"contents"`
	FolderProblems []FolderProblem `json:"folder_problems"`
}

// TitleFiles is a title with its parts.
type TitleFiles struct {
	Title
	Files []File `json:"files"`
}

// Outside is the way in from outside the home.
type Outside struct {
	Closed time.Time `json:"closed_at,omitzero"` // since when; zero while it is open
	Ended  int       `json:"ended"`              // requests that were ended
}

// Closing closes it.
type Closing struct {
	Now bool `json:"now"` // and end what is being answered there
}

// Key is the key of another system.
type Key struct {
	Name    string        `json:"name"`
	May     []right.Right `json:"may"`
	Away    bool          `json:"away"` // good from outside the home, too
	Created time.Time     `json:"created_at"`
	Ends    time.Time     `json:"ends_at,omitzero"`
	Used    time.Time     `json:"used_at,omitzero"`
	Address string        `json:"address,omitempty"` // from which it was used last
}

// NewKey is a key that is to be made.
type NewKey struct {
	Name  string        `json:"name"`
	May   []right.Right `json:"may"`
	Away  bool          `json:"away"`
	Lasts float64       `json:"lasts"` // seconds; 0 for ever
}

// KeyMade is a key with its token, which is shown once.
type KeyMade struct {
	Key
	Token string `json:"token"`
}

// NewMember is what is needed to add a member. A nil Away stands for what the
// role brings.
type NewMember struct {
	Name     string         `json:"name"`
	Role     allowance.Role `json:"role"`
	Away     *bool          `json:"away,omitempty"`
	Password string         `json:"password"`
	// Made says that it is no choice of the member's: it is good for a week, until they choose one.
	Made bool `json:"made,omitempty"`
	// What the member may watch; nil bounds nothing.
	Allowed *allowance.Allowance `json:"allowance,omitempty"`
}

// Change is what may be changed of a member; nil fields stay.
type Change struct {
	Password *string `json:"password,omitempty"`
	// Made says that the password is no choice of the member's: it is good for a week, until they choose one.
	Made bool  `json:"made,omitempty"`
	Away *bool `json:"away,omitempty"`
	// Role is another role; nil leaves it.
	Role *allowance.Role `json:"role,omitempty"`
	// Allowed is all of what the member may watch from now on; nil leaves it.
	Allowed *allowance.Allowance `json:"allowance,omitempty"`
	// Titles are shown or hidden by themselves; null has them go by their age again.
	Titles map[int64]*bool `json:"titles,omitempty"`
	// ForgetFactor takes the second factor away from who has lost it.
	ForgetFactor bool `json:"forget_second_factor,omitempty"`
	// ForgetPasskeys takes all passkeys away from who has lost one.
	ForgetPasskeys bool `json:"forget_passkeys,omitempty"`
}

// Client asks a server.
type Client struct {
	http http.Client
	name string // for messages
}

// Dial is how a client reaches the server.
type Dial func(ctx context.Context) (net.Conn, error)

// At gives a client for the socket in a state folder.
func At(state string) *Client {
	return Through(filepath.Join(state, Socket),
		func(ctx context.Context) (net.Conn, error) { return dialSocket(ctx, state) })
}

// Through gives a client that reaches the server in another way.
func Through(name string, dial Dial) *Client {
	return &Client{name: name, http: http.Client{Transport: &http.Transport{
		DialContext:       func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) },
		DisableKeepAlives: true,
	}}}
}

// dialSocket connects to the socket: to one of the account that the state folder belongs
// to, and to no other that a link could lead to, since what is sent here are an
// administrator's wishes. Its path may be longer than an address can be (unix(7): 108
// bytes), so it goes by way of a descriptor.
func dialSocket(ctx context.Context, state string) (net.Conn, error) {
	dir, err := boundary.Open(state)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	owner, err := dir.Owner()
	if err != nil {
		return nil, err
	}
	path, done, err := dir.Socket(Socket, []int{owner.UID})
	if err != nil {
		return nil, err
	}
	defer done()
	var d net.Dialer
	conn, err := d.DialContext(ctx, "unix", path)
	if err != nil {
		return nil, err
	}
	if uid, err := peer(conn); err != nil || uid != owner.UID {
		conn.Close()
		return nil, errors.Join(err, fmt.Errorf("%w: uid %d answers at it", boundary.ErrForeign, uid))
	}
	return conn, nil
}

// peer is who answers at a socket (SO_PEERCRED, unix(7)).
func peer(conn net.Conn) (uid int, err error) {
	raw, err := conn.(*net.UnixConn).SyscallConn()
	if err != nil {
		return -1, err
	}
	var cred *unix.Ucred
	cerr := raw.Control(func(fd uintptr) {
		cred, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	})
	if err = errors.Join(cerr, err); err != nil {
		return -1, err
	}
	return int(cred.Uid), nil
}

// Dialed connects to the socket in a state folder, for the relay.
func Dialed(ctx context.Context, state string) (net.Conn, error) { return dialSocket(ctx, state) }

// Listen makes the socket in a state folder, mode 0600, in place of an old one.
func Listen(state string) (net.Listener, error) {
	dir, err := os.OpenFile(state, unix.O_PATH|unix.O_DIRECTORY, 0)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	p := fmt.Sprintf("/proc/self/fd/%d/%s", dir.Fd(), Socket)
	if err := os.Remove(p); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	// Nobody else may open it, not even for the moment until its mode is set.
	mask := unix.Umask(0o177)
	defer unix.Umask(mask)
	l, err := net.Listen("unix", p)
	if err != nil {
		return nil, err
	}
	// The path goes by way of a folder that is about to be closed.
	l.(*net.UnixListener).SetUnlinkOnClose(false)
	return l, nil
}

// do asks the server. in is sent as JSON unless nil; out, unless nil, takes the
// answer: an io.Writer its bytes, anything else what they say as JSON.
func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	r, err := http.NewRequestWithContext(ctx, method, "http://control"+path, body)
	if err != nil {
		return err
	}
	res, err := c.http.Do(r)
	if err != nil {
		return c.unreachable(err)
	}
	defer res.Body.Close()
	if res.StatusCode >= 400 {
		return c.refused(res)
	}
	switch to := out.(type) {
	case nil:
		return nil
	case io.Writer:
		_, err := io.Copy(to, res.Body)
		return err
	}
	return json.NewDecoder(io.LimitReader(res.Body, mostAnswer)).Decode(out)
}

// mostAnswer is how large an answer may be, in bytes: whoever took the server over could
// send one without end.
const mostAnswer = 1 << 30

// refused reads what a server says that did not do as asked.
func (c *Client) refused(res *http.Response) error {
	p := &problem.Problem{What: "the server answered " + res.Status, Where: c.name}
	b, _ := io.ReadAll(io.LimitReader(res.Body, 1<<16))
	if err := json.Unmarshal(b, p); err != nil {
		p.Why = string(b)
	}
	if res.StatusCode == http.StatusBadRequest || res.StatusCode == http.StatusNotFound {
		p.Exit = problem.ExitUsage // what was asked for is not there, or cannot be
	}
	var h Health
	if json.Unmarshal(b, &h) == nil && h.Status != "" {
		return &Sick{p, h.Status}
	}
	return p
}

// Condition is how the server is.
type Condition string

// The conditions. A server that is alive and not ready says why.
const (
	Ready        Condition = "ready"
	Starting     Condition = "starting"      // it opens the store, or brings it up to date
	DamagedStore Condition = "damaged-store" // it cannot be read, or does not fit together
	NewerStore   Condition = "newer-store"   // a newer program made it
	NoStore      Condition = "no-store"      // it cannot be opened, for another reason
	FullDisk     Condition = "full-disk"     // nothing can be kept; what is there plays
)

// Health is what the server says of itself in short.
type Health struct {
	Status Condition `json:"status"`
	What   string    `json:"problem,omitempty"`
	Where  string    `json:"where,omitempty"`
	Why    string    `json:"why,omitempty"`
	Fix    string    `json:"fix,omitempty"`
}

// Sick is the error of a server that is alive and not ready.
type Sick struct {
	*problem.Problem
	Status Condition
}

// Unwrap gives the problem.
func (s *Sick) Unwrap() error { return s.Problem }

// Hopeless reports that waiting will not help.
func (s *Sick) Hopeless() bool { return s.Status != Starting && s.Status != Ready }

// ErrUnreachable is the problem when the server cannot be asked; errors.Is tells.
var ErrUnreachable = errors.New("the server cannot be asked")

func (c *Client) unreachable(err error) error {
	p := &problem.Problem{What: "the server cannot be asked", Where: c.name,
		Err: fmt.Errorf("%w: %w", ErrUnreachable, err)}
	switch {
	case errors.Is(err, os.ErrPermission):
		p.Why, p.Fix = "you may not open its control socket", "run as root or as the run-as account"
	case errors.Is(err, os.ErrNotExist), errors.Is(err, unix.ECONNREFUSED):
		p.Why, p.Fix = "it is not running here",
			"see cozyshelf status; start it with cozyshelf deploy or cozyshelf start"
	default:
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		p.Why, p.Fix = err.Error(), "see cozyshelf status and cozyshelf logs"
	}
	return p
}

// What answers may take. The socket is the server's account's: whoever has taken that over could
// answer never, and hold whoever asks.
const (
	soon  = 30 * time.Second
	later = 5 * time.Minute // of all that is on the shelves, and of catalogues elsewhere
)

// errSilent says that the server takes too long.
var errSilent = errors.New("it does not answer")

func ask[T any](ctx context.Context, c *Client, within time.Duration, method, path string, in any) (T, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, within, fmt.Errorf("%w within %s", errSilent, within))
	defer cancel()
	var out T
	err := c.do(ctx, method, path, in, &out)
	if cause := context.Cause(ctx); err != nil && errors.Is(cause, errSilent) {
		err = c.unreachable(cause)
	}
	return out, err
}

// Health gives nil where the server is ready.
func (c *Client) Health(ctx context.Context) error { return c.do(ctx, "GET", "/healthz", nil, nil) }

// Backup asks for a backup and writes it. It ends with an error where the server could
// not write all of it.
func (c *Client) Backup(ctx context.Context, w io.Writer) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	silence := time.AfterFunc(soon, func() { cancel(fmt.Errorf("%w for %s", errSilent, soon)) })
	defer silence.Stop()
	err := c.do(ctx, "POST", "/control/v1/backup", nil, writing(func(b []byte) (int, error) {
		silence.Reset(soon)
		return w.Write(b)
	}))
	if cause := context.Cause(ctx); err != nil && errors.Is(cause, errSilent) {
		err = c.unreachable(cause)
	}
	return err
}

// writing is a function that takes what is written.
type writing func(b []byte) (int, error)

func (w writing) Write(b []byte) (int, error) { return w(b) }

// Prepared lists the copies that are made beforehand.
func (c *Client) Prepared(ctx context.Context) ([]Prepared, error) {
	return ask[[]Prepared](ctx, c, soon, "GET", "/control/v1/prepared", nil)
}

// Prepare asks for copies of a title.
func (c *Client) Prepare(ctx context.Context, p Preparing) ([]Prepared, error) {
	return ask[[]Prepared](ctx, c, soon, "POST", "/control/v1/prepared", p)
}

// CancelPrepared removes a copy.
func (c *Client) CancelPrepared(ctx context.Context, id int64) (Prepared, error) {
	return ask[Prepared](ctx, c, soon, "DELETE", fmt.Sprintf("/control/v1/prepared/%d", id), nil)
}

// Capacity gives what was measured last.
func (c *Client) Capacity(ctx context.Context) (capacity.Measured, error) {
	return ask[capacity.Measured](ctx, c, soon, "GET", "/control/v1/capacity", nil)
}

// Measure has the server measure how much it converts, and hears of each step.
func (c *Client) Measure(ctx context.Context, quick bool, step func(MeasureLine)) (out capacity.Measured, err error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	silence := time.AfterFunc(later, func() { cancel(fmt.Errorf("%w for %s", errSilent, later)) })
	defer silence.Stop()
	// Whoever has taken the server over could say something now and then for ever.
	whole := time.AfterFunc(longestMeasure, func() { cancel(fmt.Errorf("%w within %s", errSilent, longestMeasure)) })
	defer whole.Stop()
	var end MeasureLine
	lines := 0
	var half []byte
	err = c.do(ctx, "POST", fmt.Sprintf("/control/v1/capacity?quick=%t", quick), nil, writing(func(b []byte) (int,
		error) {
		silence.Reset(later)
		half = append(half, b...)
		if len(half) > mostLine {
			return 0, errors.New("it says too much")
		}
		for {
			line, rest, whole := bytes.Cut(half, []byte("\n"))
			if !whole {
				return len(b), nil
			}
			half = rest
			var l MeasureLine
			if lines++; lines > mostLines {
				return 0, errors.New("it says too much")
			}
			if err := json.Unmarshal(line, &l); err != nil {
				return 0, err
			}
			if l.Measured != nil || l.Problem != nil {
				end = l
			} else {
				step(l)
			}
		}
	}))
	if cause := context.Cause(ctx); err != nil && errors.Is(cause, errSilent) {
		return out, c.unreachable(cause)
	}
	switch {
	case err != nil:
		return out, err
	case end.Problem != nil:
		return out, end.Problem
	case end.Measured == nil:
		return out, &problem.Problem{What: "the measurement was cut off", Where: c.name, Why: "the server ended",
			Fix: "see cozyshelf logs, and try again"}
	}
	return *end.Measured, nil
}

// What the server may say while it measures.
const (
	mostLine       = 1 << 20
	mostLines      = 10_000
	longestMeasure = 2 * time.Hour
)

// Status asks what the server says of itself.
func (c *Client) Status(ctx context.Context) (Status, error) {
	return ask[Status](ctx, c, soon, "GET", "/control/v1/status", nil)
}

// LookAtName has the server look soon at the name of remote.address.
func (c *Client) LookAtName(ctx context.Context) error {
	_, err := ask[struct{}](ctx, c, soon, "POST", "/control/v1/name/look", struct{}{})
	return err
}

// Outside tells whether the way in from outside is closed.
func (c *Client) Outside(ctx context.Context) (Outside, error) {
	return ask[Outside](ctx, c, soon, "GET", "/control/v1/outside", nil)
}

// CloseOutside closes it.
func (c *Client) CloseOutside(ctx context.Context, in Closing) (Outside, error) {
	return ask[Outside](ctx, c, soon, "POST", "/control/v1/outside/close", in)
}

// OpenOutside opens it again.
func (c *Client) OpenOutside(ctx context.Context) (Outside, error) {
	return ask[Outside](ctx, c, soon, "POST", "/control/v1/outside/open", struct{}{})
}

// Keys lists the keys of other systems.
func (c *Client) Keys(ctx context.Context) ([]Key, error) {
	return ask[[]Key](ctx, c, soon, "GET", "/control/v1/keys", nil)
}

// AddKey makes a key.
func (c *Client) AddKey(ctx context.Context, k NewKey) (KeyMade, error) {
	return ask[KeyMade](ctx, c, soon, "POST", "/control/v1/keys", k)
}

// RemoveKey takes a key away.
func (c *Client) RemoveKey(ctx context.Context, name string) error {
	_, err := ask[struct{}](ctx, c, soon, "DELETE", "/control/v1/keys/"+url.PathEscape(name), nil)
	return err
}

// Top gives a top list.
func (c *Client) Top(ctx context.Context, of string, by usage.Order, limit int, f usage.Filter) ([]usage.Rank, error) {
	q := f.Query()
	q.Set("of", of)
	q.Set("by", string(by))
	q.Set("limit", strconv.Itoa(limit))
	return ask[[]usage.Rank](ctx, c, later, "GET", "/control/v1/figures/top?"+q.Encode(), nil)
}

// Chart gives a chart.
func (c *Client) Chart(ctx context.Context, a usage.Asked, f usage.Filter) (Chart, error) {
	q := f.Query()
	q.Set("by", string(a.By))
	q.Set("of", string(a.Of))
	q.Set("split", string(a.Split))
	return ask[Chart](ctx, c, later, "GET", "/control/v1/figures/chart?"+q.Encode(), nil)
}

// Report gives a report of a month, of a member, or of the house for no name.
func (c *Client) Report(ctx context.Context, month time.Time, member string) (MonthReport, error) {
	q := url.Values{"month": {month.Format("2006-01")}, "member": {member}}
	return ask[MonthReport](ctx, c, later, "GET", "/control/v1/figures/report?"+q.Encode(), nil)
}

// WatchedTitles tells how the titles were watched that were.
func (c *Client) WatchedTitles(ctx context.Context) ([]usage.Watched, error) {
	return ask[[]usage.Watched](ctx, c, later, "GET", "/control/v1/figures/titles", nil)
}

// VerifyFigures compares the figures that are kept with the plays; with rebuild they are made anew before.
func (c *Client) VerifyFigures(ctx context.Context, rebuild bool) (Verified, error) {
	return ask[Verified](ctx, c, 24*time.Hour, "POST", fmt.Sprintf("/control/v1/figures/verify?rebuild=%t", rebuild),
		nil)
}

// Receivers tells how it goes with those who are told of what happens.
func (c *Client) Receivers(ctx context.Context) ([]Receiver, error) {
	return ask[[]Receiver](ctx, c, soon, "GET", "/control/v1/notices", nil)
}

// TryReceiver sends a test notice to a receiver.
func (c *Client) TryReceiver(ctx context.Context, name string) error {
	_, err := ask[struct{}](ctx, c, time.Minute, "POST", "/control/v1/notices/"+url.PathEscape(name)+"/test", nil)
	return err
}

// Pending gives what waits for a program on the host.
func (c *Client) Pending(ctx context.Context, name string) (Pending, error) {
	return ask[Pending](ctx, c, soon, "GET", "/control/v1/notices/"+url.PathEscape(name)+"/pending", nil)
}

// Told notes that a program was told of what waited, or why not.
func (c *Client) Told(ctx context.Context, name string, in Told) error {
	_, err := ask[struct{}](ctx, c, soon, "POST", "/control/v1/notices/"+url.PathEscape(name)+"/told", in)
	return err
}

// Members lists the members.
func (c *Client) Members(ctx context.Context) ([]Member, error) {
	return ask[[]Member](ctx, c, soon, "GET", "/control/v1/members", nil)
}

// Stopping is how a stream is to be ended.
type Stopping struct {
	Say string `json:"say,omitempty"` // to who watches it
}

// Stop ends a stream, by the number of its play.
func (c *Client) Stop(ctx context.Context, play int64, in Stopping) (Stopped, error) {
	return ask[Stopped](ctx, c, soon, "POST", fmt.Sprintf("/control/v1/plays/%d/stop", play), in)
}

// AnnounceVisit tells the server that it will be asked by the address that people use from outside, and gives
// the word by which it knows that.
func (c *Client) AnnounceVisit(ctx context.Context) (Visit, error) {
	return ask[Visit](ctx, c, soon, "POST", "/control/v1/visits", struct{}{})
}

// Visit tells how a visit that was announced came to the server.
func (c *Client) Visit(ctx context.Context, token string) (Visit, error) {
	return ask[Visit](ctx, c, soon, "GET", "/control/v1/visits/"+url.PathEscape(token), nil)
}

// NewInvite is what an invite is made of. A nil Away stands for what the role brings.
type NewInvite struct {
	Name    string               `json:"name"`
	Role    allowance.Role       `json:"role"`
	Away    *bool                `json:"away,omitempty"`
	Allowed *allowance.Allowance `json:"allowance,omitempty"`
	For     time.Duration        `json:"for"` // how long it is good
}

// Invite makes a link by which one person chooses a password.
func (c *Client) Invite(ctx context.Context, i NewInvite) (Invite, error) {
	return ask[Invite](ctx, c, soon, "POST", "/control/v1/invites", i)
}

// Invites lists the invites that are open.
func (c *Client) Invites(ctx context.Context) ([]Invite, error) {
	return ask[[]Invite](ctx, c, soon, "GET", "/control/v1/invites", nil)
}

// TakeBack takes an invite back.
func (c *Client) TakeBack(ctx context.Context, name string) error {
	_, err := ask[struct{}](ctx, c, soon, "DELETE", "/control/v1/invites/"+url.PathEscape(name), nil)
	return err
}

// Member gives a member with how much it has watched.
func (c *Client) Member(ctx context.Context, name string) (MemberShown, error) {
	return ask[MemberShown](ctx, c, soon, "GET", "/control/v1/members/"+url.PathEscape(name), nil)
}

// EndDevice signs a device of a member out.
func (c *Client) EndDevice(ctx context.Context, name string, id int64) error {
	_, err := ask[struct{}](ctx, c, soon, "DELETE",
		fmt.Sprintf("/control/v1/members/%s/devices/%d", url.PathEscape(name), id), nil)
	return err
}

// AddMember adds a member.
func (c *Client) AddMember(ctx context.Context, m NewMember) (Member, error) {
	return ask[Member](ctx, c, soon, "POST", "/control/v1/members", m)
}

// ChangeMember changes a member.
func (c *Client) ChangeMember(ctx context.Context, name string, ch Change) (Member, error) {
	return ask[Member](ctx, c, soon, "PATCH", "/control/v1/members/"+url.PathEscape(name), ch)
}

// RemoveMember removes a member.
func (c *Client) RemoveMember(ctx context.Context, name string) error {
	_, err := ask[struct{}](ctx, c, soon, "DELETE", "/control/v1/members/"+url.PathEscape(name), nil)
	return err
}

// Shelf asks for one shelf with all that is on it.
func (c *Client) Shelf(ctx context.Context, name string) (ShelfFiles, error) {
	return ask[ShelfFiles](ctx, c, later, "GET", "/control/v1/shelves/"+url.PathEscape(name), nil)
}

// Scan scans one shelf, or all for an empty name, and waits for the outcome. With
// emptied, a folder that is empty now is taken to be meant so; gently gives way to all
// else on the machine.
func (c *Client) Scan(ctx context.Context, shelf, folder string, emptied, gently bool) ([]scan.Report, error) {
	q := url.Values{"shelf": {shelf}, "folder": {folder}}
	if emptied {
		q.Set("emptied", "yes")
	}
	if gently {
		q.Set("gently", "yes")
	}
	return ask[[]scan.Report](ctx, c, 24*time.Hour, "POST", "/control/v1/scan?"+q.Encode(), nil)
}

// History asks for plays, the latest first.
func (c *Client) History(ctx context.Context, f usage.Filter) ([]usage.Play, error) {
	return ask[[]usage.Play](ctx, c, later, "GET", "/control/v1/plays?"+f.Query().Encode(), nil)
}

// Library gives the whole library in figures.
func (c *Client) Library(ctx context.Context) (Library, error) {
	return ask[Library](ctx, c, later, "GET", "/control/v1/library", nil)
}

// Problems gives what somebody should see to, on one shelf, or on all for no name.
func (c *Client) Problems(ctx context.Context, shelf string) ([]library.Issue, error) {
	list, err := ask[[]library.Issue](ctx, c, later, "GET", "/control/v1/problems?shelf="+url.QueryEscape(shelf), nil)
	library.Arrange(list)
	return list, err
}

// Search finds titles and parts by the beginnings of their words.
func (c *Client) Search(ctx context.Context, words string, limit int) ([]Hit, error) {
	return ask[[]Hit](ctx, c, soon, "GET",
		fmt.Sprintf("/control/v1/search?limit=%d&q=%s", limit, url.QueryEscape(words)), nil)
}

// Watched gives the files that somebody watches now.
func (c *Client) Watched(ctx context.Context) ([]WatchedFile, error) {
	return ask[[]WatchedFile](ctx, c, soon, "GET", "/control/v1/watched", nil)
}

// Matched is a title with what is known of it and what it may be.
type Matched struct {
	Title      Title     `json:"title"`
	Described  Described `json:"described"`
	Catalogues []string  `json:"catalogues"` // that may be asked about it
	Files      []Placed  `json:"files"`
}

// Placed is where a file lies.
type Placed struct {
	Root  string `json:"root"` // the shelf's folder, as the administrator wrote it
	Path  string `json:"path"` // below it
	Extra string `json:"extra,omitempty"`
}

// Matching is what a person wants with a title. One of Take, None and Again; Edit and
// Picture go with Take and None, or stand alone.
type Matching struct {
	Take    string            `json:"take,omitempty"` // an outside id
	None    bool              `json:"none,omitempty"`
	Again   bool              `json:"again,omitempty"` // look it up anew
	Edit    map[string]string `json:"edit,omitempty"`
	Picture []byte            `json:"picture,omitempty"`
}

// Matched gives what is known of a title, and what it may be.
func (c *Client) Matched(ctx context.Context, title int64) (Matched, error) {
	return ask[Matched](ctx, c, soon, "GET", fmt.Sprintf("/control/v1/titles/%d", title), nil)
}

// Match does with a title what a person wants.
func (c *Client) Match(ctx context.Context, title int64, m Matching) (Matched, error) {
	return ask[Matched](ctx, c, later, "POST", fmt.Sprintf("/control/v1/titles/%d/match", title), m)
}
