package notify

import (
	"context"
	"crypto/ecdh"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/notice"
	"cozyshelf/internal/outside"
	"cozyshelf/internal/store"

	webpush "github.com/SherClockHolmes/webpush-go"
)

// Bounds of what goes to browsers.
const (
	browsersAtOnce = 8
	keptForBrowser = 24 * time.Hour // by the push service, while a browser is not there
	waitForPush    = 10 * time.Minute
	pushGivenUp    = 7 * 24 * time.Hour // of nothing but failures
	mostEndpoint   = 2000               // bytes
	shortPatience  = 3 * time.Second    // with a push service that takes nothing
)

// pushKey is what the key is remembered by with which push services know this server (RFC 8292).
const pushKey = "push-key"

// PushKey gives the public key by which a browser subscribes, base64url.
func (k *Keeper) PushKey(ctx context.Context) (string, error) {
	_, public, err := k.pushKeys(ctx)
	return public, err
}

func (k *Keeper) pushKeys(ctx context.Context) (private, public string, err error) {
	text, err := k.Store.Once(ctx, pushKey, func() (string, error) {
		private, public, err := webpush.GenerateVAPIDKeys()
		return private + " " + public, err
	})
	private, public, _ = strings.Cut(text, " ")
	return private, public, err
}

// CheckBrowser says what is wrong with the address and the keys that a browser gave.
func CheckBrowser(b store.Browser) error {
	u, err := url.Parse(b.Endpoint)
	if err != nil || u.Scheme != "https" || u.Host == "" || u.User != nil || len(b.Endpoint) > mostEndpoint {
		return errors.New("the address of the push service is none")
	}
	key, err := base64.RawURLEncoding.DecodeString(b.Key)
	if err == nil {
		_, err = ecdh.P256().NewPublicKey(key)
	}
	if err != nil {
		return errors.New("the browser's key is none")
	}
	if secret, err := base64.RawURLEncoding.DecodeString(b.Secret); err != nil || len(secret) != 16 {
		return errors.New("the secret shared with the browser does not have 16 bytes")
	}
	return nil
}

// shown is what a browser shows.
type shown struct {
	ID    string `json:"id"` // what comes twice is shown once
	Title string `json:"title"`
	Text  string `json:"text"`
}

// browser gives the sender to browsers. A notice waits for one whose push service takes nothing for some minutes, and
// not longer: the others are not to wait for it.
func (k *Keeper) browser() Sender {
	guard := outside.Guard{Timeout: patience, Header: patience, Near: k.PushNear,
		Redirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	client := guard.Client()
	if t, ok := client.Transport.(*http.Transport); ok && k.Roots != nil {
		t.TLSClientConfig = tlsRoots(k.Roots)
	}
	var mu sync.Mutex
	took := map[string]bool{} // who took the notices that are being sent, by their ids and addresses
	return func(ctx context.Context, _ household.Notice, _ string, list []notice.Notice) error {
		private, public, err := k.pushKeys(ctx)
		if err != nil {
			return err
		}
		all, err := k.Store.Browsers(ctx, time.Now())
		if err != nil {
			return err
		}
		if len(all) == 0 && list[0].Code == event.CodeTest {
			return errors.New("no browser is told of anything yet; members choose it on their own page")
		}
		for _, n := range list {
			var wait sync.WaitGroup
			places := make(chan struct{}, browsersAtOnce)
			var failed error
			for _, b := range all {
				mu.Lock()
				done := took[n.ID+" "+b.Endpoint]
				mu.Unlock()
				if done || n.Code != event.CodeTest && !notice.Concerns(n, b.Member, b.Role) {
					continue
				}
				places <- struct{}{}
				wait.Go(func() {
					defer func() { <-places }()
					err := k.push(ctx, client, b, n, private, public)
					mu.Lock()
					defer mu.Unlock()
					if took[n.ID+" "+b.Endpoint] = err == nil; err != nil {
						failed = err
					}
				})
			}
			if wait.Wait(); failed != nil {
				return failed
			}
		}
		mu.Lock()
		clear(took)
		mu.Unlock()
		return nil
	}
}

// push sends a notice to one browser. An error says that it is to be tried again.
func (k *Keeper) push(ctx context.Context, client *http.Client, b store.Browser, n notice.Notice, private,
	public string) error {
	text, err := json.Marshal(shown{n.ID, k.House, n.Text})
	if err != nil {
		return err
	}
	patient := patience
	if !b.Failing.IsZero() && time.Since(b.Failing) > waitForPush {
		patient = shortPatience
	}
	ctx, cancel := context.WithTimeout(ctx, patient)
	defer cancel()
	who := k.Source
	if !strings.HasPrefix(who, "https:") {
		who = "https://cozyshelf.home.arpa"
	}
	resp, err := webpush.SendNotificationWithContext(ctx, text, &webpush.Subscription{Endpoint: b.Endpoint,
		Keys: webpush.Keys{Auth: b.Secret, P256dh: b.Key}}, &webpush.Options{HTTPClient: client, Subscriber: who,
		TTL: int(keptForBrowser / time.Second), VAPIDPublicKey: public, VAPIDPrivateKey: private,
		Urgency: webpush.UrgencyNormal})
	if err == nil {
		_, _ = io.CopyN(io.Discard, resp.Body, 16<<10)
		resp.Body.Close()
		if err = answered(resp); resp.StatusCode == http.StatusNotFound || resp.StatusCode == http.StatusGone {
			return k.Store.DropAddress(ctx, b.Endpoint) // it was unsubscribed there
		}
	}
	// What became of it is noted also where the server ends meanwhile.
	ctx, cancel = context.WithTimeout(context.WithoutCancel(ctx), putWithin)
	defer cancel()
	now := time.Now()
	switch {
	case err == nil:
		return k.Store.BrowserFails(ctx, b.Endpoint, time.Time{})
	case b.Failing.IsZero():
		return errors.Join(plainly(fmt.Errorf("the push service of a browser of %s: %w", b.Member, err)),
			k.Store.BrowserFails(ctx, b.Endpoint, now))
	case now.Sub(b.Failing) > pushGivenUp:
		return k.Store.DropAddress(ctx, b.Endpoint)
	case now.Sub(b.Failing) > waitForPush || now.Before(b.Failing):
		return nil // the others do not wait for it
	}
	return plainly(fmt.Errorf("the push service of a browser of %s: %w", b.Member, err))
}
