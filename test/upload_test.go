package test

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/demo"
)

// tus sends one request of an upload.
func (m *mill) tus(method, path, token string, body []byte, headers ...string) (*http.Response, string) {
	m.t.Helper()
	return m.get(method, path, string(body),
		append([]string{"Authorization", "Bearer " + token, "Tus-Resumable", "1.0.0"}, headers...)...)
}

func named(name string) string { return "filename " + base64.StdEncoding.EncodeToString([]byte(name)) }

// TestUploadsGoOnWhereTheyWereCutOff brings a film in from outside, in parts, with the
// connection lost in the midst of one.
func TestUploadsGoOnWhereTheyWereCutOff(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		films := m.path("media/films")
		m.edit(`access  = "read"`, `access  = "change"`)
		if err := os.Chown(films, m.uid, m.uid); err != nil {
			t.Fatal(err)
		}
		film, err := os.ReadFile(filepath.Join(films, "The Understudy Moon (1996).mp4"))
		if err != nil {
			t.Fatal(err)
		}
		film = append(film, 0, 0, 0, 8, 'f', 'r', 'e', 'e') // another one, as good
		m.must("deploy", "--yes")
		m.add(demo.People[:3]...)
		token, child := m.token("wren"), m.token("linnea")
		begin := func(shelf, token, name string, size int) (*http.Response, string) {
			t.Helper()
			return m.tus("POST", "/api/v1/intake/"+shelf, token, nil, "Upload-Length", fmt.Sprint(size),
				"Upload-Metadata", named(name))
		}
		for what, c := range map[string]struct {
			shelf, token, name string
			size, want         int
		}{
			"a child":           {"films", child, "a.mp4", 10, 403},
			"a shelf only read": {"series", token, "a.mp4", 10, 403},
			"no such shelf":     {"nowhere", token, "a.mp4", 10, 404},
			"no film":           {"films", token, "a.exe", 10, 415},
			"no name":           {"films", token, "", 10, 400},
			"no length":         {"films", token, "a.mp4", -1, 400},
			"too large":         {"films", token, "a.mp4", 1 << 60, 413},
			"nobody":            {"films", "none", "a.mp4", 10, 401},
		} {
			if res, text := begin(c.shelf, c.token, c.name, c.size); res.StatusCode != c.want {
				t.Errorf("%s: %s, want %d: %s", what, res.Status, c.want, text)
			}
		}
		if res, _ := m.get("POST", "/api/v1/intake/films", "", "Authorization", "Bearer "+token, "Tus-Resumable",
			"0.2"); res.StatusCode != 412 || res.Header.Get("Tus-Version") != "1.0.0" {
			t.Errorf("another version: %s", res.Status)
		}

		res, text := begin("films", token, "../../the.clockwork.heron.(2024).mp4", len(film))
		at := res.Header.Get("Location")
		if res.StatusCode != 201 || !strings.HasPrefix(at, "/api/v1/intake/films/") {
			t.Fatalf("%s %s", res.Status, text)
		}
		part := func(from int, b []byte) (*http.Response, string) {
			t.Helper()
			return m.tus("PATCH", at, token, b, "Upload-Offset", fmt.Sprint(from), "Content-Type",
				"application/offset+octet-stream")
		}
		offset := func() (n int) {
			t.Helper()
			res, _ := m.tus("HEAD", at, token, nil)
			fmt.Sscan(res.Header.Get("Upload-Offset"), &n)
			return n
		}
		if res, text := part(0, film[:1000]); res.StatusCode != 204 || res.Header.Get("Upload-Offset") != "1000" {
			t.Fatalf("%s %s", res.Status, text)
		}
		if res, _ := part(500, film[500:]); res.StatusCode != 409 {
			t.Errorf("a part that does not follow: %s", res.Status)
		}
		if res, _ := m.tus("PATCH", at, token, film[1000:], "Upload-Offset", "1000", "Content-Type",
			"text/plain"); res.StatusCode != 415 {
			t.Errorf("another type: %s", res.Status)
		}
		if res, _ := m.tus("HEAD", at, m.token("ozan"), nil); res.StatusCode != 404 {
			t.Errorf("somebody else's: %s", res.Status)
		}
		// The connection is lost after some more.
		conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", m.port))
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(conn, "PATCH %s HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\nTus-Resumable: "+
			"1.0.0\r\nUpload-Offset: 1000\r\nContent-Type: application/offset+octet-stream\r\nContent-Length: "+
			"%d\r\n\r\n", at, token, len(film)-1000)
		_, _ = conn.Write(film[1000:21000])
		time.Sleep(200 * time.Millisecond)
		conn.Close()
		within(t, 10*time.Second, "what came before the loss", func() bool { return offset() > 1000 })
		// The server ends, too, and comes back.
		m.must("restart")
		m.until("ready")
		from := offset()
		if from <= 1000 || from > 21000 {
			t.Fatalf("%d bytes are there", from)
		}
		var jobs []struct{ Now, Way, Who string }
		if m.document(&jobs, "intake", "list"); len(jobs) != 1 || jobs[0].Way != "upload" || jobs[0].Who != "wren" {
			t.Errorf("jobs: %+v", jobs)
		}
		if res, text := part(from, film[from:]); res.StatusCode != 204 {
			t.Fatalf("%s %s", res.Status, text)
		}
		const to = "the clockwork heron (2024)/the clockwork heron (2024).mp4"
		if got, err := os.ReadFile(filepath.Join(films, to)); err != nil || !bytes.Equal(got, film) {
			t.Errorf("%v, %d of %d bytes", err, len(got), len(film))
		}
		// The same bytes under another name are there already.
		within(t, 10*time.Second, "the scan", func() bool { return m.titles("films") == 7 })
		res, _ = begin("films", token, "once.more.mp4", len(film))
		at = res.Header.Get("Location")
		if res, text := part(0, film); res.StatusCode != 204 {
			t.Errorf("%s %s", res.Status, text)
		}
		if list, err := filepath.Glob(filepath.Join(films, "once*")); err != nil || len(list) > 0 {
			t.Errorf("it is there twice: %v, %v", list, err)
		}
		var hits []control.Hit
		if m.document(&hits, "shelf", "find", "clockwork"); len(hits) != 1 {
			t.Errorf("found %+v", hits)
		}
		m.must("undo", m.entry("intake"), "--yes")
		if _, err := os.Stat(filepath.Join(films, to)); err == nil {
			t.Error("it stays after undo")
		}
		// What is no film stays in the holding folder, and is said.
		res, _ = begin("films", token, "cheat (2020).mp4", 100)
		at = res.Header.Get("Location")
		if res, text := part(0, append([]byte("PK\x03\x04"), make([]byte, 96)...)); res.StatusCode != 422 ||
			!strings.Contains(text, "ZIP") {
			t.Errorf("an archive: %s %s", res.Status, text)
		}
		if res, _ := m.tus("DELETE", at, token, nil); res.StatusCode != 204 {
			t.Errorf("ended: %s", res.Status)
		}
		if res, _ := m.tus("HEAD", at, token, nil); res.StatusCode != 404 {
			t.Errorf("after it was ended: %s", res.Status)
		}
		m.must("ledger", "verify")
	})
}
