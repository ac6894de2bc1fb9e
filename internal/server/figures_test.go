package server

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"net/http"
	"strings"
	"testing"

	"cozyshelf/internal/core/allowance"
)

// TestFiguresAreForWhoseTheyAre looks at pages of figures as each sort of member.
func TestFiguresAreForWhoseTheyAre(t *testing.T) {
	h, wren := housed(t)
	film := h.fileCalled("Copper Kite")
	for name, role := range map[string]allowance.Role{"bram": allowance.Child, "ozan": allowance.Adult,
		"piet": allowance.Guest} {
		h.add(name, role)
		_, h.token = h.signs(name, name+" by the millpond")
		h.tell(film, 0, "playing")
		h.tell(film, 5, "stopped")
	}
	h.token = ""
	see := func(as, path string, headers ...string) (int, []byte) {
		t.Helper()
		res, b := h.ask("GET", path, "", append(headers, "Cookie", as)...)
		return res.StatusCode, b
	}
	bram, ozan, piet := h.comesIn("bram", "bram by the millpond"), h.comesIn("ozan", "ozan by the millpond"),
		h.comesIn("piet", "piet by the millpond")
	for _, one := range []struct {
		who, as, path string
		status        int
		says          string
	}{
		{"bram's own", bram, "/own/figures", 200, "What you watched"},
		{"bram's own by name", bram, "/own/figures/Bram", 200, "What you watched"},
		{"bram sees ozan's", bram, "/own/figures/ozan", 404, ""}, {"ozan sees bram's", ozan, "/own/figures/bram", 200,
			"What bram watched"},
		{"ozan sees piet's", ozan, "/own/figures/piet", 404, ""}, {"ozan sees wren's", ozan, "/own/figures/wren", 404, ""},
		{"piet sees bram's", piet, "/own/figures/bram", 404, ""}, {"nobody of that name", ozan, "/own/figures/linnea", 404,
			""},
		{"ozan sees the house's", ozan, "/house/figures", 404, ""}, {"wren sees the house's", wren, "/house/figures", 200,
			"in the house"},
	} {
		status, b := see(one.as, one.path)
		if status != one.status || !bytes.Contains(b, []byte(one.says)) {
			t.Errorf("%s: %d", one.who, status)
			continue
		}
		if status != 200 {
			if bytes.Contains(b, []byte("Copper Kite")) {
				t.Errorf("%s: a title is told", one.who)
			}
			continue
		}
		plays := "in one play"
		if one.path == "/house/figures" {
			plays = "in 3 plays"
		}
		if !bytes.Contains(b, []byte(plays)) || !bytes.Contains(b, []byte("Copper Kite")) {
			t.Errorf("%s: %s", one.who, b)
		}
		for _, part := range strings.SplitAfter(string(b), "</svg>") {
			if _, svg, ok := strings.Cut(part, "<svg"); ok {
				d := xml.NewDecoder(strings.NewReader("<svg" + svg))
				for {
					if _, err := d.Token(); errors.Is(err, io.EOF) {
						break
					} else if err != nil {
						t.Fatalf("%s: a picture cannot be read: %v", one.who, err)
					}
				}
			}
		}
	}
	if status, b := see("", "/own/figures"); status != http.StatusUnauthorized || bytes.Contains(b, []byte("Copper")) {
		t.Errorf("nobody: %d", status)
	}
}
