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

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/store"

	"golang.org/x/sys/unix"
)

// Socket is the socket's name in the state folder.
const Socket = "control.sock"

// Status is what the server says of itself.
type Status struct {
	Version string    `json:"version"`
	Started time.Time `json:"started"`
	Ready   bool      `json:"ready"`
	Problem string    `json:"problem,omitempty"`
	Members int       `json:"members"`
	Streams int       `json:"streams"`
	Shelves []Shelf   `json:"shelves"`
	Format  int       `json:"store_format"`
	Memory  int64     `json:"memory"` // resident, in bytes
}

// Shelf is one shelf with its figures.
type Shelf struct {
	Name     string           `json:"name"`
	Kind     household.Kind   `json:"kind"`
	Access   household.Access `json:"access"`
	Folders  []string         `json:"folders"` // as the administrator wrote them
	Away     []scan.Away      `json:"away"`    // what is not there now
	Scanning bool             `json:"scanning"`
	Scanned  time.Time        `json:"scanned,omitzero"` // when the last scan ended
	store.ShelfFigures
}

// ShelfFiles is one shelf with all that is on it.
type ShelfFiles struct {
	Shelf
	Contents []TitleFiles          `json:"contents"`
	Problems []store.FolderProblem `json:"folder_problems"`
}

// TitleFiles is a title with its parts.
type TitleFiles struct {
	store.Title
	Files []store.File `json:"files"`
}

// NewMember is what is needed to add a member. A nil Away stands for what the
// role brings.
type NewMember struct {
	Name     string         `json:"name"`
	Role     allowance.Role `json:"role"`
	Away     *bool          `json:"away,omitempty"`
	Password string         `json:"password"`
}

// Change is what may be changed of a member; nil fields stay.
type Change struct {
	Password *string `json:"password,omitempty"`
	Away     *bool   `json:"away,omitempty"`
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
	return Through(filepath.Join(state, Socket), func(ctx context.Context) (net.Conn, error) { return dialSocket(ctx, state) })
}

// Through gives a client that reaches the server in another way.
func Through(name string, dial Dial) *Client {
	return &Client{name: name, http: http.Client{Transport: &http.Transport{
		DialContext:       func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) },
		DisableKeepAlives: true,
	}}}
}

// dialSocket connects to the socket. Its path may be longer than an address
// can be (unix(7): 108 bytes), so it goes by way of the open folder.
func dialSocket(ctx context.Context, state string) (net.Conn, error) {
	dir, err := os.OpenFile(state, unix.O_PATH|unix.O_DIRECTORY, 0)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	var d net.Dialer
	return d.DialContext(ctx, "unix", fmt.Sprintf("/proc/self/fd/%d/%s", dir.Fd(), Socket))
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
// answer.
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
		p := &problem.Problem{What: "the server answered " + res.Status, Where: c.name}
		b, _ := io.ReadAll(io.LimitReader(res.Body, 1<<16))
		if err := json.Unmarshal(b, p); err != nil {
			p.Why = string(b)
		}
		if res.StatusCode == http.StatusBadRequest {
			p.Exit = problem.ExitUsage
		}
		return p
	}
	if out == nil {
		return nil
	}
	return json.NewDecoder(res.Body).Decode(out)
}

// ErrUnreachable is the problem when the server cannot be asked; errors.Is tells.
var ErrUnreachable = errors.New("the server cannot be asked")

func (c *Client) unreachable(err error) error {
	p := &problem.Problem{What: "the server cannot be asked", Where: c.name, Err: fmt.Errorf("%w: %w", ErrUnreachable, err)}
	switch {
	case errors.Is(err, os.ErrPermission):
		p.Why, p.Fix = "you may not open its control socket", "run as root or as the run-as account"
	case errors.Is(err, os.ErrNotExist), errors.Is(err, unix.ECONNREFUSED):
		p.Why, p.Fix = "it is not running here", "see cozyshelf status; start it with cozyshelf deploy or cozyshelf start"
	default:
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		p.Why, p.Fix = err.Error(), "see cozyshelf status and cozyshelf logs"
	}
	return p
}

func ask[T any](ctx context.Context, c *Client, method, path string, in any) (T, error) {
	var out T
	err := c.do(ctx, method, path, in, &out)
	return out, err
}

// Health gives nil where the server is ready.
func (c *Client) Health(ctx context.Context) error { return c.do(ctx, "GET", "/healthz", nil, nil) }

// Status asks what the server says of itself.
func (c *Client) Status(ctx context.Context) (Status, error) {
	return ask[Status](ctx, c, "GET", "/control/v1/status", nil)
}

// Members lists the members.
func (c *Client) Members(ctx context.Context) ([]store.Member, error) {
	return ask[[]store.Member](ctx, c, "GET", "/control/v1/members", nil)
}

// AddMember adds a member.
func (c *Client) AddMember(ctx context.Context, m NewMember) (store.Member, error) {
	return ask[store.Member](ctx, c, "POST", "/control/v1/members", m)
}

// ChangeMember changes a member.
func (c *Client) ChangeMember(ctx context.Context, name string, ch Change) error {
	return c.do(ctx, "PATCH", "/control/v1/members/"+url.PathEscape(name), ch, nil)
}

// RemoveMember removes a member.
func (c *Client) RemoveMember(ctx context.Context, name string) error {
	return c.do(ctx, "DELETE", "/control/v1/members/"+url.PathEscape(name), nil, nil)
}

// Shelf asks for one shelf with all that is on it.
func (c *Client) Shelf(ctx context.Context, name string) (ShelfFiles, error) {
	return ask[ShelfFiles](ctx, c, "GET", "/control/v1/shelves/"+url.PathEscape(name), nil)
}

// Scan scans one shelf, or all for an empty name, and waits for the outcome. With
// emptied, a folder that is empty now is taken to be meant so.
func (c *Client) Scan(ctx context.Context, shelf string, emptied bool) ([]scan.Report, error) {
	more := ""
	if emptied {
		more = "&emptied=yes"
	}
	return ask[[]scan.Report](ctx, c, "POST", "/control/v1/scan?shelf="+url.QueryEscape(shelf)+more, nil)
}

// History asks for plays, the latest first.
func (c *Client) History(ctx context.Context, f store.PlayFilter) ([]usage.Play, error) {
	q := url.Values{"member": {f.Member}, "limit": {strconv.Itoa(f.Limit)}, "now": {strconv.FormatBool(f.Open)}}
	if !f.Since.IsZero() {
		q.Set("since", f.Since.Format(time.RFC3339Nano))
	}
	return ask[[]usage.Play](ctx, c, "GET", "/control/v1/plays?"+q.Encode(), nil)
}
