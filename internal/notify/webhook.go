package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/notice"
)

// patience is how long a receiver may take to answer.
const patience = 15 * time.Second

// cloudEvent is a notice in the form of CloudEvents 1.0.
type cloudEvent struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        eventData `json:"data"`
}

type eventData struct {
	Text    string         `json:"text"`
	Members []string       `json:"members"`
	Known   map[string]any `json:"known"`
}

// typePrefix begins the types of our events.
const typePrefix = "cozyshelf."

// Event gives a notice in the form of CloudEvents.
func Event(source string, n notice.Notice) any {
	return cloudEvent{SpecVersion: "1.0", ID: n.ID, Source: source, Type: typePrefix + string(n.Code), Time: n.At.UTC(),
		ContentType: "application/json", Data: eventData{Text: n.Text, Members: n.Members, Known: n.Data}}
}

// Message gives the body for some notices, and its type: one event, or a batch.
func Message(source string, list []notice.Notice) (body []byte, contentType string, err error) {
	if len(list) == 1 {
		body, err = json.Marshal(Event(source, list[0]))
		return body, "application/cloudevents+json", err
	}
	batch := []any{}
	for _, n := range list {
		batch = append(batch, Event(source, n))
	}
	body, err = json.Marshal(batch)
	return body, "application/cloudevents-batch+json", err
}

// Sign signs a message as the open Standard Webhooks specification says: HMAC-SHA-256 over its id, the time in
// seconds and its body. A key that begins with whsec_ is base64 after that, else it is taken as it is.
func Sign(key, id string, at time.Time, body []byte) (string, error) {
	secret := []byte(key)
	if rest, ok := strings.CutPrefix(key, "whsec_"); ok {
		var err error
		if secret, err = base64.StdEncoding.DecodeString(rest); err != nil {
			return "", fmt.Errorf("the key begins with whsec_, and is not base64 after that: %w", err)
		}
	}
	if len(secret) < 24 {
		return "", fmt.Errorf("the key has %d bytes, fewer than 24", len(secret))
	}
	mac := hmac.New(sha256.New, secret)
	fmt.Fprintf(mac, "%s.%d.", id, at.Unix())
	mac.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil)), nil
}

// webhook gives the sender of webhooks. They follow no redirection: what is signed goes where the household file says.
func (k *Keeper) webhook() Sender {
	client := &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, TLSClientConfig: tlsRoots(k.Roots),
			MaxIdleConnsPerHost: 1, IdleConnTimeout: time.Minute, TLSHandshakeTimeout: patience,
			ResponseHeaderTimeout: patience, MaxResponseHeaderBytes: 64 << 10},
	}
	return func(ctx context.Context, to household.Notice, secret string, list []notice.Notice) error {
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		body, contentType, err := Message(k.Source, list)
		if err != nil {
			return err
		}
		// The same notices have the same id when they come again; with others beside them it is another.
		now, id := time.Now(), list[0].ID
		if n := len(list); n > 1 {
			id += "-" + list[n-1].ID
		}
		signed, err := Sign(secret, id, now, body)
		if err != nil {
			return err
		}
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, to.Address, bytes.NewReader(body))
		if err != nil {
			return err
		}
		r.Header.Set("Content-Type", contentType)
		r.Header.Set("User-Agent", "cozyshelf")
		r.Header.Set("Webhook-Id", id)
		r.Header.Set("Webhook-Timestamp", strconv.FormatInt(now.Unix(), 10))
		r.Header.Set("Webhook-Signature", signed)
		resp, err := client.Do(r)
		if err != nil {
			return plainly(err)
		}
		defer resp.Body.Close()
		_, _ = io.CopyN(io.Discard, resp.Body, 16<<10) // so that the connection serves the next one
		return answered(resp)
	}
}

// tlsRoots trusts some authorities, or those of the machine for nil.
func tlsRoots(roots *x509.CertPool) *tls.Config { return &tls.Config{RootCAs: roots} }

// answered says what an answer means.
func answered(resp *http.Response) error {
	switch {
	case resp.StatusCode >= 200 && resp.StatusCode < 300:
		return nil
	case resp.StatusCode == http.StatusGone:
		return fmt.Errorf("it answers 410: %w", ErrGone)
	}
	err := fmt.Errorf("it answers %s", resp.Status)
	if resp.StatusCode >= 300 && resp.StatusCode < 400 {
		err = fmt.Errorf("it sends on to another address (%s), which is not followed; write that one", resp.Status)
	}
	if seconds, bad := strconv.Atoi(resp.Header.Get("Retry-After")); bad == nil && seconds > 0 {
		return later{err, time.Duration(min(seconds, int(mostPause/time.Second))) * time.Second}
	}
	return err
}
