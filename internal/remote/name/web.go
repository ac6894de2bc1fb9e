package name

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/line"
	"cozyshelf/internal/core/plain"
	"cozyshelf/internal/outside"
)

// ask asks whoever keeps the name to write the record.
func (k *Keeper) ask(ctx context.Context, secret string, lines map[string]netip.Addr,
	steps map[string]line.Step) error {
	client := outside.Guard{Near: []string{k.From.Address}, Timeout: 30 * time.Second,
		Redirect: func(*http.Request, []*http.Request) error { // the secret is for nobody else
			return errors.New("it leads elsewhere; write the address where it leads")
		}}.Client()
	defer client.CloseIdleConnections()
	text := func(family string) string {
		if a := lines[family]; a.IsValid() {
			return a.String()
		}
		return ""
	}
	for _, f := range families {
		if steps[f.name] == "" {
			continue
		}
		at := strings.NewReplacer(household.PutName, url.QueryEscape(k.Host), household.PutAddress,
			url.QueryEscape(text(f.name)), household.PutIPv4, url.QueryEscape(text("ipv4")), household.PutIPv6,
			url.QueryEscape(text("ipv6")), household.PutSecret, url.QueryEscape(secret)).Replace(k.From.Address)
		if err := k.get(ctx, client, at, secret); err != nil {
			return err
		}
		if !strings.Contains(k.From.Address, household.PutAddress) {
			return nil // one question tells of both
		}
	}
	return nil
}

func (k *Keeper) get(ctx context.Context, client *http.Client, at, secret string) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return errors.New("the address under [remote.name] cannot be asked") // err would show the secret
	}
	if k.From.User != "" {
		r.SetBasicAuth(k.From.User, secret)
	}
	res, err := client.Do(r)
	var failed *url.Error
	if errors.As(err, &failed) {
		err = failed.Err // without the address, which holds the secret
	}
	if err != nil {
		return fmt.Errorf("whoever keeps the name (%s) could not be asked: %w", r.URL.Host, err)
	}
	defer res.Body.Close()
	said, err := io.ReadAll(io.LimitReader(res.Body, 200))
	if err != nil {
		said = nil
	}
	if res.StatusCode < 200 || res.StatusCode > 299 {
		words := plain.Line(string(said))
		for _, hidden := range []string{secret, url.QueryEscape(secret)} {
			if hidden != "" {
				words = strings.ReplaceAll(words, hidden, "…")
			}
		}
		return fmt.Errorf("whoever keeps the name (%s) answers %d: %s", r.URL.Host, res.StatusCode, words)
	}
	return nil
}
