package server

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// house is a server with the demo's media and one member, and a signed-in client.
type house struct {
	*Server
	t     *testing.T
	url   string
	token string
	log   *bytes.Buffer
}

func open(t *testing.T) *house { return openWith(t, func(*blueprint.Settings) {}) }

func openWith(t *testing.T, change func(*blueprint.Settings)) *house {
	t.Helper()
	ctx, dir := context.Background(), t.TempDir()
	if err := demo.Media(filepath.Join(dir, "media")); err != nil {
		t.Fatal(err)
	}
	set := blueprint.Settings{Format: 1, Name: "Fernhollow Mill", Language: "en", UnknownAge: 18, State: dir}
	for _, k := range household.Kinds {
		p := filepath.Join(dir, "media", string(k))
		access := household.Read
		if k == household.Films {
			access = household.Change
		}
		set.Shelves = append(set.Shelves,
			blueprint.SettingsShelf{Name: string(k), Kind: k, Access: access, Folders: []string{p}, Shown: []string{p}})
	}
	change(&set)
	h := &house{t: t, log: &bytes.Buffer{}}
	var err error
	if h.Server, err = Open(ctx, set, "0.0.0-test", slog.New(slog.NewTextHandler(h.log, nil))); err != nil {
		t.Fatal(err)
	}
	h.HeldBack = 10 * time.Millisecond
	t.Cleanup(func() { h.Store.Close() })
	if _, err := h.Scan(ctx, "", scan.Options{}); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Store.AddMember(ctx, store.Member{Name: "wren", Role: allowance.Admin, Away: true,
		Password: hashed("by the millpond")}, time.Now()); err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(h.public())
	t.Cleanup(srv.Close)
	h.url = srv.URL
	var got struct{ Token string }
	if res, body := h.ask("POST", "/api/v1/sign-in",
		`{"name":"wren","password":"by the millpond","device":"test"}`); json.Unmarshal(body, &got) != nil ||
		got.Token == "" {
		t.Fatalf("sign-in: %s %s", res.Status, body)
	}
	h.token = got.Token
	return h
}

func (h *house) ask(method, path, body string, headers ...string) (*http.Response, []byte) {
	h.t.Helper()
	r, err := http.NewRequest(method, h.url+path, strings.NewReader(body))
	if err != nil {
		h.t.Fatal(err)
	}
	if h.token != "" {
		r.Header.Set("Authorization", "Bearer "+h.token)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		h.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		h.t.Fatal(err)
	}
	return res, b
}

// spec is the description of the API, as far as it is looked at here.
type spec struct {
	Paths map[string]map[string]struct {
		Responses map[string]struct {
			Content map[string]struct{ Schema map[string]any }
		}
	}
	Components struct{ Schemas map[string]map[string]any }
}

// fits says where a value does not fit its schema.
func (s *spec) fits(schema map[string]any, v any, at string) []string {
	if ref, ok := schema["$ref"].(string); ok {
		return s.fits(s.Components.Schemas[strings.TrimPrefix(ref, "#/components/schemas/")], v, at)
	}
	wrong := func() []string { return []string{fmt.Sprintf("%s: %v is not %v", at, v, schema["type"])} }
	switch schema["type"] {
	case "object":
		m, ok := v.(map[string]any)
		if !ok {
			return wrong()
		}
		var out []string
		props, _ := schema["properties"].(map[string]any)
		required, _ := schema["required"].([]any)
		for _, k := range required {
			if _, ok := m[k.(string)]; !ok {
				out = append(out, fmt.Sprintf("%s: %s is missing", at, k))
			}
		}
		for k, v := range m {
			p, ok := props[k].(map[string]any)
			if !ok && props != nil {
				out = append(out, fmt.Sprintf("%s: %s is not described", at, k))
			} else if ok {
				out = append(out, s.fits(p, v, at+"."+k)...)
			}
		}
		return out
	case "array":
		list, ok := v.([]any)
		if !ok {
			return wrong()
		}
		var out []string
		for i, v := range list {
			out = append(out, s.fits(schema["items"].(map[string]any), v, fmt.Sprintf("%s[%d]", at, i))...)
		}
		return out
	case "string":
		if _, ok := v.(string); !ok {
			return wrong()
		}
		if enum, ok := schema["enum"].([]any); ok && !slices.Contains(enum, v) {
			return []string{fmt.Sprintf("%s: %v is none of %v", at, v, enum)}
		}
		if schema["format"] == "date-time" {
			if _, err := time.Parse(time.RFC3339, v.(string)); err != nil {
				return []string{at + ": " + err.Error()}
			}
		}
	case "integer":
		if n, ok := v.(float64); !ok || n != float64(int64(n)) {
			return wrong()
		}
	case "number":
		if _, ok := v.(float64); !ok {
			return wrong()
		}
	case "boolean":
		if _, ok := v.(bool); !ok {
			return wrong()
		}
	default:
		return []string{fmt.Sprintf("%s: a schema without a type: %v", at, schema)}
	}
	return nil
}

// TestAPortThatIsTakenForAMomentIsWaitedFor holds a port as what is left of a killed server
// does, and then for good.
func TestAPortThatIsTakenForAMomentIsWaitedFor(t *testing.T) {
	held, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := held.Addr().String()
	time.AfterFunc(300*time.Millisecond, func() { held.Close() })
	l, err := listenOn(context.Background(), address)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if _, err := listenOn(context.Background(), address); !errors.Is(err, syscall.EADDRINUSE) {
		t.Errorf("a port that stays taken: %v", err)
	}
}

// TestEveryAnswerIsAsTheDescriptionSays asks every path of the description, well
// and badly, and holds the answers against it.
func TestEveryAnswerIsAsTheDescriptionSays(t *testing.T) {
	h := open(t)
	var doc spec
	res, body := h.ask("GET", "/api/v1/openapi.json", "")
	if err := json.Unmarshal(body, &doc); err != nil || res.StatusCode != 200 {
		t.Fatalf("%s: %v", res.Status, err)
	}
	bodies := map[string]string{"position": `{"position":1,"state":"playing"}`,
		"sign-in": `{"name":"wren","password":"by the millpond"}`}
	asked := 0
	hold := func(method, path, as string, body string, headers ...string) {
		t.Helper()
		asked++
		res, b := h.ask(strings.ToUpper(method), path, body, headers...)
		answer, ok := doc.Paths[as][method].Responses[fmt.Sprint(res.StatusCode)]
		if !ok {
			t.Errorf("%s %s: %s is not described: %s", method, path, res.Status, b)
			return
		}
		kind, _, _ := strings.Cut(res.Header.Get("Content-Type"), ";")
		media, ok := answer.Content[kind]
		if kind != "application/json" {
			return // the file itself
		}
		if !ok {
			if method == "head" {
				return // headers alone
			}
			t.Errorf("%s %s: %s with %s is not described", method, path, res.Status, kind)
			return
		}
		var v any
		if err := json.Unmarshal(b, &v); err != nil {
			t.Errorf("%s %s: %v", method, path, err)
			return
		}
		for _, w := range doc.fits(media.Schema, v, method+" "+path) {
			t.Error(w)
		}
	}
	for path, methods := range doc.Paths {
		for method := range methods {
			if path == "/api/v1/sign-out" {
				continue // in the end
			}
			body := bodies[path[strings.LastIndexByte(path, '/')+1:]]
			fill := func(id string) string {
				return strings.NewReplacer("{shelf}", map[bool]string{true: "series", false: "none"}[id == "1"],
					"{title}", id, "{file}", id, "{upload}", "00000000-0000", "{name}", "x.srt").Replace(path)
			}
			hold(method, fill("1"), path, body)
			hold(method, fill("99999"), path, body)
			hold(method, fill("1"), path, body, "Authorization", "Bearer forged")
			if body != "" {
				hold(method, fill("1"), path, "{")
			}
			if strings.HasSuffix(path, "/content") {
				hold(method, fill("1"), path, "", "Range", "bytes=0-9")
				hold(method, fill("1"), path, "", "Range", "bytes=999999999-")
			}
		}
	}
	for _, shelf := range household.Kinds {
		hold("get", "/api/v1/shelves/"+string(shelf)+"/titles", "/api/v1/shelves/{shelf}/titles", "")
	}
	for id := range 14 {
		hold("get", fmt.Sprintf("/api/v1/titles/%d", id), "/api/v1/titles/{title}", "")
		hold("get", fmt.Sprintf("/api/v1/files/%d", id), "/api/v1/files/{file}", "")
	}
	for _, q := range []string{"?limit=2", "?limit=0", "?limit=x", "?from=t&limit=1", "?from=" +
		strings.Repeat("%1f", 9)} {
		hold("get", "/api/v1/shelves/films/titles"+q, "/api/v1/shelves/{shelf}/titles", "")
	}
	// An upload, with all that may go wrong.
	begin := func(shelf string, headers ...string) {
		hold("post", "/api/v1/intake/"+shelf, "/api/v1/intake/{shelf}", "",
			append([]string{"Tus-Resumable", "1.0.0"}, headers...)...)
	}
	const film, text = "filename Tm9uZSBTdWNoICgyMDAxKS5hdmk=", "filename eC50eHQ=" // None Such (2001).avi, x.txt
	begin("series", "Upload-Length", "4", "Upload-Metadata", film)
	begin("photos", "Upload-Length", "4", "Upload-Metadata", text)
	begin("films", "Upload-Length", "4", "Upload-Metadata", text)
	begin("films", "Upload-Length", "-4", "Upload-Metadata", film)
	begin("films", "Upload-Length", "4", "Upload-Metadata", "filename !")
	begin("films", "Upload-Length", "9000000000000000", "Upload-Metadata", film)
	begin("films", "Upload-Length", "12", "Upload-Metadata", film)
	jobs, err := filepath.Glob(filepath.Join(h.Settings.Shelves[0].Folders[0], ".cozyshelf-intake", "*"))
	if err != nil || len(jobs) != 1 {
		t.Fatalf("uploads begun: %v, %v", jobs, err)
	}
	part := func(method, body string, headers ...string) {
		hold(method, "/api/v1/intake/films/"+filepath.Base(jobs[0]), "/api/v1/intake/{shelf}/{upload}", body,
			append([]string{"Tus-Resumable", "1.0.0"}, headers...)...)
	}
	const octets = "application/offset+octet-stream"
	part("head", "")
	part("patch", "RIFF", "Upload-Offset", "0")
	part("patch", "RIFF", "Upload-Offset", "4", "Content-Type", octets)
	part("patch", "RIFF", "Upload-Offset", "0", "Content-Type", octets)
	part("patch", "RIFF and too much", "Upload-Offset", "4", "Content-Type", octets)
	part("patch", "    AVI ", "Upload-Offset", "4", "Content-Type", octets)
	part("delete", "")
	hold("post", "/api/v1/sign-out", "/api/v1/sign-out", "")
	hold("get", "/api/v1/me", "/api/v1/me", "")
	if asked < 60 {
		t.Errorf("only %d questions were asked", asked)
	}
}

func TestPagesHoldWhatIsThereAndNothingFromOutside(t *testing.T) {
	h := open(t)
	for path, want := range map[string][]string{
		"/": {"The Paper Lighthouse", "Songs for Slow Trains", "The Gravel Choir",
			"1 of 4 cannot be read"},
		"/shelf/series":    {"Tiny Harbour", "2016"},
		"/title/1":         {"cover", "Watch"},
		"/assets/icon.svg": {"<svg"},
		"/cover/1":         {"<svg", "</svg>"},
	} {
		res, body := h.ask("GET", path, "")
		if res.StatusCode != 200 {
			t.Errorf("%s: %s", path, res.Status)
		}
		for _, s := range want {
			if !bytes.Contains(body, []byte(s)) {
				t.Errorf("%s has no %q:\n%s", path, s, body)
			}
		}
		text := strings.ReplaceAll(string(body), "http://www.w3.org/2000/svg", "")
		if strings.Contains(text, "http://") || strings.Contains(text, "https://") {
			t.Errorf("%s speaks of another place:\n%s", path, body)
		}
	}
	for _, path := range []string{"/shelf/none", "/title/999", "/title/x", "/play/999", "/nowhere"} {
		if res, body := h.ask("GET", path, ""); res.StatusCode != 404 ||
			!bytes.Contains(body, []byte("To the shelves")) {
			t.Errorf("%s: %s\n%s", path, res.Status, body)
		}
	}
	// Signed out, every page is the door, and leads back to where one wanted to go.
	h.token = ""
	if res, body := h.ask("GET", "/title/1", ""); res.StatusCode != 401 ||
		!bytes.Contains(body, []byte(`name="next" value="/title/1"`)) || bytes.Contains(body, []byte("Lighthouse")) {
		t.Errorf("%s\n%s", res.Status, body)
	}
}

func TestNamesCannotBringMarkupIntoPages(t *testing.T) {
	h := open(t)
	dir := h.Settings.Shelves[0].Folders[0]
	evil := `<script>alert(1)<` + `∕script>"' (2001).mp4`
	if err := os.WriteFile(filepath.Join(dir, evil), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Scan(context.Background(), "films", scan.Options{}); err != nil {
		t.Fatal(err)
	}
	titles, err := h.Store.Titles(context.Background(), "films")
	if err != nil {
		t.Fatal(err)
	}
	paths := []string{"/", "/shelf/films"}
	for _, title := range titles {
		paths = append(paths, fmt.Sprintf("/title/%d", title.ID), fmt.Sprintf("/cover/%d", title.ID))
	}
	seen := false
	for _, p := range paths {
		_, body := h.ask("GET", p, "")
		if bytes.Contains(body, []byte("<script>alert")) {
			t.Errorf("%s holds the markup:\n%s", p, body)
		}
		seen = seen || bytes.Contains(body, []byte("&lt;script&gt;"))
	}
	if !seen {
		t.Error("the name is nowhere to be seen")
	}
}

func TestFilesAreNotReachedThroughLinksOutOfTheShelf(t *testing.T) {
	h := open(t)
	ctx := context.Background()
	dir := h.Settings.Shelves[0].Folders[0]
	name := filepath.Join(dir, "The Understudy Moon (1996).mp4")
	var id int64
	files, err := h.Store.ShelfFiles(ctx, "films")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		if strings.Contains(f.Path, "Understudy") {
			id = f.ID
		}
	}
	// The file becomes a link after it was scanned.
	secretFile := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secretFile, []byte("not for you"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(name); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(secretFile, name); err != nil {
		t.Fatal(err)
	}
	res, body := h.ask("GET", fmt.Sprintf("/api/v1/files/%d/content", id), "")
	if res.StatusCode != 404 || bytes.Contains(body, []byte("not for you")) {
		t.Errorf("%s: %s", res.Status, body)
	}
}

func TestExpiredTokensAreRefused(t *testing.T) {
	h := open(t)
	ctx := context.Background()
	m, err := h.Store.Member(ctx, "wren")
	if err != nil {
		t.Fatal(err)
	}
	old := secret.Token()
	if _, err := h.Store.AddDevice(ctx, m.ID,
		store.Device{Name: "old", Kind: store.ForProgram, Expires: time.Now().Add(-time.Hour),
			Ends: time.Now().Add(time.Hour)}, old, time.Now().Add(-2*time.Hour)); err != nil {
		t.Fatal(err)
	}
	h.token = old
	if res, _ := h.ask("GET", "/api/v1/me", ""); res.StatusCode != 401 {
		t.Errorf("got %s", res.Status)
	}
}

func TestSecretsAreNotInTheLog(t *testing.T) {
	h := open(t)
	token := h.token
	h.token = ""
	h.ask("POST", "/api/v1/sign-in", `{"name":"wren","password":"guessed-wrongly"}`)
	h.ask("GET", "/api/v1/me?token="+token, "", "Authorization", "Bearer "+token)
	for _, s := range []string{token, "guessed-wrongly", "by the millpond"} {
		if strings.Contains(h.log.String(), s) {
			t.Errorf("the log holds %q:\n%s", s, h.log.String())
		}
	}
	if !strings.Contains(h.log.String(), "sign-in failed") {
		t.Errorf("the failure is not in the log:\n%s", h.log.String())
	}
}

func TestSettingsOfAnotherFormatAreRefused(t *testing.T) {
	p := filepath.Join(t.TempDir(), "settings.json")
	for text, ok := range map[string]bool{`{"format":1}`: true, `{"format":2}`: false, `{`: false, ``: false} {
		if err := os.WriteFile(p, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := live.ReadSettings(p); (err == nil) != ok {
			t.Errorf("%q: got %v", text, err)
		}
	}
}

// TestOnlyAdministratorsSeeWhatCannotBePlayed cuts a film: it is on the shelf for an
// administrator, and nowhere for a child: not on the page, not in a list, not in what is found.
func TestOnlyAdministratorsSeeWhatCannotBePlayed(t *testing.T) {
	h := open(t)
	folder := h.Settings.Shelves[0].Folders[0]
	clip := firstFile(t, folder)
	b, err := os.ReadFile(clip)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "The Clockwork Heron (2024).mp4"), b[:len(b)/3], 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Scan(context.Background(), "", scan.Options{}); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Store.AddMember(context.Background(), store.Member{Name: "bram", Role: allowance.Child,
		Password: hashed("bram by the millpond")}, time.Now()); err != nil {
		t.Fatal(err)
	}
	shelf := h.Settings.Shelves[0].Name
	sees := func(path string) bool {
		t.Helper()
		res, body := h.ask("GET", path, "")
		if res.StatusCode != http.StatusOK {
			t.Fatalf("%s: %s %s", path, res.Status, body)
		}
		return strings.Contains(string(body), "Clockwork Heron")
	}
	paths := []string{"/api/v1/shelves/" + shelf + "/titles", "/api/v1/search?q=clockwork"}
	for _, p := range paths {
		if !sees(p) {
			t.Errorf("an administrator does not see it: %s", p)
		}
	}
	h.token = ""
	var got struct{ Token string }
	if res, body := h.ask("POST", "/api/v1/sign-in",
		`{"name":"bram","password":"bram by the millpond","device":"test"}`); json.Unmarshal(body, &got) != nil ||
		got.Token == "" {
		t.Fatalf("sign-in: %s %s", res.Status, body)
	}
	h.token = got.Token
	for _, p := range paths {
		if sees(p) {
			t.Errorf("a child sees it: %s", p)
		}
	}
}

// firstFile is a film in a folder.
func firstFile(t *testing.T, folder string) string {
	t.Helper()
	found := ""
	err := filepath.WalkDir(folder, func(p string, d os.DirEntry, err error) error {
		if err == nil && found == "" && strings.HasSuffix(p, ".mp4") {
			found = p
		}
		return err
	})
	if err != nil || found == "" {
		t.Fatalf("no film in %s: %v", folder, err)
	}
	return found
}

// hashes are of passwords that tests give to many members: each takes a while to make.
var hashes sync.Map

// hashed is a hash without a key, as older programs made them, once for each password.
func hashed(password string) string {
	if h, ok := hashes.Load(password); ok {
		return h.(string)
	}
	h := new(secret.Keys).Hash(password)
	hashes.Store(password, h)
	return h
}
