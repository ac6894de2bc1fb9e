package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// Viewer is a device of a member: a real client of the API.
type Viewer struct {
	Address string // of the server
	From    string // unless empty, the address that a proxy says we ask from
	token   string
}

func (v *Viewer) ask(ctx context.Context, method, path string, in, out any,
	headers ...string) (*http.Response, error) {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(b)
	}
	r, err := http.NewRequestWithContext(ctx, method, v.Address+path, body)
	if err != nil {
		return nil, err
	}
	if v.token != "" {
		r.Header.Set("Authorization", "Bearer "+v.token)
	}
	if v.From != "" {
		r.Header.Set("X-Forwarded-For", v.From)
		r.Header.Set("X-Forwarded-Proto", "https") // from outside nothing else is accepted
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.StatusCode >= 400 {
		var p struct{ Problem, Why string }
		b, _ := io.ReadAll(io.LimitReader(res.Body, 1<<16))
		if json.Unmarshal(b, &p) == nil && p.Problem != "" {
			return res, fmt.Errorf("%s: %s (%s)", res.Status, p.Problem, p.Why)
		}
		return res, fmt.Errorf("%s: %s", res.Status, strings.TrimSpace(string(b)))
	}
	if out != nil {
		return res, json.NewDecoder(res.Body).Decode(out)
	}
	_, err = io.Copy(io.Discard, res.Body)
	return res, err
}

// Stream is what another system is told of a stream.
type Stream struct {
	Members              []string
	Title, Device, Where string
}

// Now gives the streams that are running, as another system asks with its key.
func Now(ctx context.Context, address, key string) (list []Stream, err error) {
	v := &Viewer{Address: address, token: key}
	_, err = v.ask(ctx, "GET", "/api/v1/figures/now", nil, &list)
	return list, err
}

// SignIn signs a device in.
func (v *Viewer) SignIn(ctx context.Context, name, password, device string) error {
	var got struct{ Token string }
	_, err := v.ask(ctx, "POST", "/api/v1/sign-in",
		map[string]string{"name": name, "password": password, "device": device}, &got)
	v.token = got.Token
	return err
}

// File is a part of a title, as the API gives it.
type File struct {
	ID       int64
	Part     string
	Size     int64
	Duration float64
	ResumeAt float64 `json:"resume_at"`
	Problem  string
}

// Find finds a part of a title by the names of shelf, title and part; an empty
// part stands for the first.
func (v *Viewer) Find(ctx context.Context, shelf, title, part string) (File, error) {
	var page struct {
		Titles []struct {
			ID   int64
			Name string
		}
	}
	if _, err := v.ask(ctx, "GET", "/api/v1/shelves/"+shelf+"/titles?from="+url.QueryEscape(title), nil,
		&page); err != nil {
		return File{}, err
	}
	for _, t := range page.Titles {
		if t.Name != title {
			continue
		}
		var whole struct{ Files []File }
		if _, err := v.ask(ctx, "GET", fmt.Sprintf("/api/v1/titles/%d", t.ID), nil, &whole); err != nil {
			return File{}, err
		}
		for _, f := range whole.Files {
			if part == "" || f.Part == part {
				return f, nil
			}
		}
	}
	return File{}, fmt.Errorf("%s is not on shelf %s", strings.TrimSpace(title+" "+part), shelf)
}

// Watch plays a file from where the member stopped, for a number of seconds or,
// with none, to its end, at the speed of life: it asks for bytes as they are
// needed and tells where it is.
func (v *Viewer) Watch(ctx context.Context, f File, seconds float64) error {
	end := f.Duration
	if seconds > 0 {
		end = min(end, f.ResumeAt+seconds)
	}
	path := fmt.Sprintf("/api/v1/files/%d/", f.ID)
	sent := int64(f.ResumeAt / f.Duration * float64(f.Size))
	for at := f.ResumeAt; ; {
		to := min(f.Size, int64((at+4)/f.Duration*float64(f.Size)))
		if to > sent {
			if _, err := v.ask(ctx, "GET", path+"content", nil, nil, "Range",
				fmt.Sprintf("bytes=%d-%d", sent, to-1)); err != nil {
				return err
			}
			sent = to
		}
		state := "playing"
		if at >= end {
			state = "stopped"
		}
		if _, err := v.ask(ctx, "PUT", path+"position", map[string]any{"position": at, "state": state},
			nil); err != nil {
			return err
		}
		if state == "stopped" {
			return nil
		}
		step := min(1, end-at)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(step * float64(time.Second))):
			at += step
		}
	}
}

// Sit says who watched a file along.
func (v *Viewer) Sit(ctx context.Context, f File, names ...string) error {
	_, err := v.ask(ctx, "PUT", fmt.Sprintf("/api/v1/files/%d/sofa", f.ID), map[string]any{"members": names}, nil)
	return err
}

// Accept opens the link of an invite, and chooses a password.
func (v *Viewer) Accept(ctx context.Context, token, password string) error {
	r, err := http.NewRequestWithContext(ctx, "POST", v.Address+"/invite/"+url.PathEscape(token),
		strings.NewReader(url.Values{"password": {password}, "again": {password}}.Encode()))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	c := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := c.Do(r)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusSeeOther {
		return fmt.Errorf("the link gives %s", res.Status)
	}
	return nil
}
