package docker

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"cozyshelf/internal/core/blueprint"
)

// TestNetworksHaveIPv6WhereTheEngineCan asks a stand-in for engines that are not here.
func TestNetworksHaveIPv6WhereTheEngineCan(t *testing.T) {
	for api, want := range map[string]bool{"1.41": false, "1.45": false, "1.46": true, "1.52": true, "2.0": true,
		"": false, "x": false} {
		if got := carriesIPv6(api); got != want {
			t.Errorf("API %q: got %v", api, got)
		}
	}
	var made struct {
		Name       string
		EnableIPv6 *bool
	}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Api-Version", "1.47")
		switch {
		case strings.HasSuffix(r.URL.Path, "/_ping"):
			_, _ = io.WriteString(w, "OK")
		case strings.HasSuffix(r.URL.Path, "/networks/create"):
			if err := json.NewDecoder(r.Body).Decode(&made); err != nil {
				t.Error(err)
			}
			w.WriteHeader(http.StatusCreated)
			_, _ = io.WriteString(w, `{"Id":"1"}`)
		default:
			_, _ = io.WriteString(w, "[]")
		}
	}))
	defer srv.Close()
	t.Setenv("DOCKER_HOST", "tcp://"+strings.TrimPrefix(srv.URL, "http://"))
	e, err := Open()
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"cozyshelf-0123456789ab", "cozyshelf-0123456789ab" + blueprint.NetworkIPv6} {
		made.EnableIPv6 = nil
		if err := e.MakeNetwork(context.Background(), name, "0123456789ab"); err != nil {
			t.Fatal(err)
		}
		if want := strings.HasSuffix(name, blueprint.NetworkIPv6); made.Name != name ||
			(made.EnableIPv6 != nil && *made.EnableIPv6) != want {
			t.Errorf("made %+v", made)
		}
	}
}
