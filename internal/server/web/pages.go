// Package web is the pages that members see: shelves, titles, the player, and covers where a
// title has none. What a page shows is a value of its own (board, group, frame), made from
// what the store gives.
package web

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/base64"
	"errors"
	"fmt"
	"hash/fnv"
	"html/template"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"
	"unicode"
	"unicode/utf8"

	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/core/plain"
	"cozyshelf/internal/picture"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"

	"github.com/dustin/go-humanize"
)

// Web answers browsers.
type Web struct {
	*live.Server
	telling atomic.Int32 // pages that are told how the house is
}

//go:embed pages
var pageFiles embed.FS

const nobodyStyle = `body{font:1.05rem/1.6 Georgia,"DejaVu Serif",serif;max-width:34rem;margin:14vh auto;padding` +
	`:0 1.5rem;background:#f7f1e7;color:#33261d}pre{background:#fffaf2;border-left:4px solid #a4482b;padding:.8rem ` +
	`1rem;overflow:auto}`

// ContentPolicy lets a page use what this server itself serves and nothing else.
var ContentPolicy = "default-src 'none'; script-src 'self'; style-src 'self' 'sha256-" + sum(nobodyStyle) +
	"'; img-src 'self'; media-src 'self' blob:; connect-src 'self'; form-action 'self'; base-uri 'none'; " +
	"frame-ancestors 'none'"

func sum(s string) string {
	h := sha256.Sum256([]byte(s))
	return base64.StdEncoding.EncodeToString(h[:])
}

var pages = template.Must(template.New("").Funcs(template.FuncMap{
	"clock": clock,
	"size":  func(n int64) string { return humanize.IBytes(uint64(max(0, n))) },
	"inc":   func(n int) int { return n + 1 },
	"percent": func(part, whole float64) string {
		return fmt.Sprintf("%.0f %%", 100*part/max(whole, 1))
	},
}).ParseFS(pageFiles, "pages/*.html"))

// clock writes a number of seconds as people say it: "1 h 42 min", "14 s".
func clock(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second)).Round(time.Second)
	switch {
	case d >= time.Hour:
		return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
	case d >= 10*time.Minute:
		return fmt.Sprintf("%d min", int(d.Round(time.Minute).Minutes()))
	case d >= time.Minute:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d s", int(d.Seconds()))
}

// Frame is what every page needs.
type Frame struct {
	Lang, Household, Heading, Member, Here, Stamp, Query string
	Shelves                                              []struct{ Name string }
}

func (s *Web) Frame(v *live.Visitor, heading, here string) Frame {
	f := Frame{Lang: s.Settings.Language, Household: s.Settings.Name, Heading: heading, Here: here, Stamp: s.Version}
	if v != nil {
		f.Member = v.Member.Name
	}
	for _, sh := range s.Settings.Shelves {
		if v != nil && !v.Member.Allowed.Sees(sh.Name) {
			continue
		}
		f.Shelves = append(f.Shelves, struct{ Name string }{sh.Name})
	}
	return f
}

func (s *Web) Show(w http.ResponseWriter, status int, name string, data any) {
	var b bytes.Buffer
	if err := pages.ExecuteTemplate(&b, name+".html", data); err != nil {
		s.Log.Error("a page cannot be written", "page", name, "why", err)
		http.Error(w, "This page cannot be shown; the administrator finds the reason in the log.",
			http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	// Names of files and what catalogues say stand in it: what cannot be seen is shown.
	_, _ = io.WriteString(w, plain.Text(b.String())) // the client has gone, if this fails
}

func (s *Web) NobodyYet(w http.ResponseWriter) {
	s.Show(w, http.StatusServiceUnavailable, "nobody", struct {
		Frame
		Style template.CSS
	}{s.Frame(nil, "", ""), template.CSS(nobodyStyle)})
}

// pages adds the pages to the published port.
func (s *Web) Routes(m *http.ServeMux) {
	for name, kind := range map[string]string{"style.css": "text/css; charset=utf-8",
		"player.js": "text/javascript; charset=utf-8", "abilities.js": "text/javascript; charset=utf-8",
		"segments.js": "text/javascript; charset=utf-8", "shelf.js": "text/javascript; charset=utf-8",
		"copies.js": "text/javascript; charset=utf-8", "screen.js": "text/javascript; charset=utf-8",
		"strength.js": "text/javascript; charset=utf-8", "house.js": "text/javascript; charset=utf-8",
		"passkey.js": "text/javascript; charset=utf-8", "together.js": "text/javascript; charset=utf-8",
		"sofa.js": "text/javascript; charset=utf-8", "told.js": "text/javascript; charset=utf-8",
		"worker.js": "text/javascript; charset=utf-8",
		"icon.svg":  "image/svg+xml"} {
		b, err := pageFiles.ReadFile("pages/" + name)
		if err != nil {
			panic(err) // it is embedded
		}
		m.HandleFunc("GET /assets/"+name, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", kind)
			w.Header().Set("Cache-Control", "max-age=86400")
			_, _ = w.Write(b) // the client has gone, if this fails
		})
	}
	m.HandleFunc("POST /sign-in", s.pageSignIn)
	m.HandleFunc("POST /sign-in/code", s.pageSignInCode)
	m.HandleFunc("POST /sign-in/passkey/ask", s.forPasskey(s.askPasskey))
	m.HandleFunc("POST /sign-in/passkey", s.forPasskey(s.signInPasskey))
	m.HandleFunc("POST "+live.InvitePath+"{token}/passkey/ask", s.forPasskey(s.askInvited))
	m.HandleFunc("POST "+live.InvitePath+"{token}/passkey", s.forPasskey(s.acceptPasskey))
	m.HandleFunc("POST /own/passkeys/ask", s.ownPasskey(s.newPasskey))
	m.HandleFunc("POST /own/passkeys", s.ownPasskey(s.keepPasskey))
	m.HandleFunc("POST /own/passkeys/{passkey}", s.page(s.dropPasskey))
	m.HandleFunc("POST /own/confirm/ask", s.ownPasskey(s.askConfirming))
	m.HandleFunc("POST /own/confirm", s.ownPasskey(s.confirmPasskey))
	m.HandleFunc("GET "+live.InvitePath+"{token}", s.pageInvite)
	m.HandleFunc("POST "+live.InvitePath+"{token}", s.pageInvite)
	m.HandleFunc("GET /screen", s.pageScreen)
	m.HandleFunc("POST /screen", s.pageScreen)
	m.HandleFunc("POST /screen/wait", s.waitScreen)
	for _, pattern := range []string{"GET " + live.PairPath, "GET " + live.PairPath + "/{code}",
		"POST " + live.PairPath + "/{code}"} {
		m.HandleFunc(pattern, s.page(s.pagePair))
	}
	m.HandleFunc("GET /who", s.pageWho)
	m.HandleFunc("POST /who", s.pageWho)
	m.HandleFunc("POST /own/several", s.page(s.severalOwn))
	m.HandleFunc("POST /own/screens/{screen}", s.page(s.forgetScreen))
	m.HandleFunc("POST /own/pin", s.page(s.pinOwn))
	m.HandleFunc("POST /sign-out", s.page(s.pageSignOut))
	m.HandleFunc("GET /{$}", s.page(s.home))
	m.HandleFunc("GET /own", s.page(s.pageOwn))
	m.HandleFunc("GET /own/figures", s.page(s.figuresOwn))
	m.HandleFunc("GET /own/figures/{name}", s.page(s.figuresOwn))
	m.HandleFunc("GET /house/figures", s.house(s.figuresHouse))
	m.HandleFunc("POST /own/devices/{device}", s.page(s.endOwn))
	m.HandleFunc("POST /own/devices/known", s.page(s.heardOwn))
	m.HandleFunc("POST /own/changes", s.page(s.toldOwn))
	m.HandleFunc("POST /own/feed", s.page(s.feedOwn))
	m.HandleFunc("POST /own/told", s.page(s.browserOwn))
	m.HandleFunc("POST /own/hears", s.page(s.hearsOwn))
	m.HandleFunc("POST /own/children/{name}", s.page(s.grantOwn))
	m.HandleFunc("GET /own/data.json", s.page(s.dataOwn))
	m.HandleFunc("GET /own/plays.csv", s.page(s.playsOwn))
	m.HandleFunc("POST /own/history", s.page(s.historyOwn))
	m.HandleFunc("POST /own/password", s.page(s.passwordOwn))
	m.HandleFunc("POST /own/factor", s.page(s.newFactor))
	m.HandleFunc("POST /own/factor/keep", s.page(s.keepFactor))
	m.HandleFunc("POST /own/factor/drop", s.page(s.dropFactor))
	m.HandleFunc("GET /house", s.house(s.pageHouse))
	m.HandleFunc("GET /house/now", s.house(s.tellHouse))
	m.HandleFunc("GET /house/members/{name}", s.house(s.pageMember))
	m.HandleFunc("POST /house/members/{name}", s.house(s.editMember))
	m.HandleFunc("POST /house/streams/{play}", s.house(s.stopHouse))
	m.HandleFunc("POST /house/invites", s.house(s.inviteHouse))
	m.HandleFunc("POST /house/invites/{name}", s.house(s.takeBackHouse))
	m.HandleFunc("POST /house/titles/{title}", s.house(s.matchHouse))
	m.HandleFunc("POST /house/shelves/{shelf}", s.house(s.scanHouse))
	m.HandleFunc("GET /shelf/{shelf}", s.page(s.pageShelf))
	m.HandleFunc("GET /find", s.page(s.pageFind))
	m.HandleFunc("GET /title/{title}", s.page(s.pageTitle))
	m.HandleFunc("GET /play/{file}", s.page(s.pagePlay))
	m.HandleFunc("GET "+live.TogetherPath+"{room}", s.page(s.pageTogether))
	m.HandleFunc("GET /cover/{title}", s.page(s.cover))
	m.HandleFunc("GET /chapter/{file}/{n}", s.page(s.chapterPicture))
	m.HandleFunc("/", s.page(func(w http.ResponseWriter, r *http.Request) error { return live.Nothing(r) }))
}

// page shows the sign-in to those who have not signed in, and problems as pages.
func (s *Web) page(do func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		err := s.Identify(r)
		if errors.Is(err, store.ErrNotFound) {
			next := ""
			if r.Method == http.MethodGet && len(r.URL.Path) < 2000 {
				next = r.URL.Path
			}
			status := http.StatusUnauthorized
			if next == "/" {
				status = http.StatusOK // the front door is nothing that was refused
			}
			if _, err := s.ScreenOf(r); err == nil && r.Method == http.MethodGet && !r.URL.Query().Has("door") {
				http.Redirect(w, r, "/who", http.StatusSeeOther)
				return
			}
			s.signInPage(w, r, status, "", "", next)
			return
		}
		if err == nil {
			err = do(w, r)
		}
		if err == nil {
			return
		}
		s.failed(w, r, err)
	}
}

// failed shows a problem as a page.
func (s *Web) failed(w http.ResponseWriter, r *http.Request, err error) {
	status := http.StatusInternalServerError
	var st *live.StatusError
	if errors.As(err, &st) {
		if status = st.Status; st.Wait > 0 {
			w.Header().Set("Retry-After", fmt.Sprint(int(st.Wait.Seconds())+1))
		}
	} else {
		s.Log.Error("a page failed", "pattern", r.Pattern, "why", err)
	}
	p := problem.Of(err)
	said := p.Why
	if said == "" {
		said = "Something went wrong."
	}
	s.Show(w, status, "message", struct {
		Frame
		Said, Fix string
	}{s.Frame(live.VisitorOf(r), strings.TrimSuffix(sentence(p.What), "."), ""), sentence(said), sentence(p.Fix)})
}

// sentence begins with a capital letter and ends with a full stop.
func sentence(s string) string {
	first, n := utf8.DecodeRuneInString(s)
	if n == 0 {
		return ""
	}
	s = string(unicode.ToUpper(first)) + s[n:]
	if strings.ContainsAny(s[len(s)-1:], ".!?") {
		return s
	}
	return s + "."
}

func (s *Web) signInPage(w http.ResponseWriter, r *http.Request, status int, said, name, next string) {
	_, passkeys := live.PasskeysHere(r)
	v := live.VisitorOf(r)
	s.Show(w, status, "signin", struct {
		Frame
		Said, Name, Next string
		Passkeys, Trust  bool
	}{s.Frame(nil, "Sign in", ""), said, name, next, passkeys, !v.Secure && !v.Away && s.Certificate.Authority() != nil})
}

// places are the pages that somebody may be sent to after signing in.
var places = []string{"/own", live.TogetherPath, "/house", live.PairPath, "/shelf/", "/title/", "/play/", "/find"}

// Local keeps only the paths of our own pages, so that nobody is sent elsewhere. What it
// gives is escaped: a browser passes over tabs and takes a backslash for a slash.
func Local(path string) string {
	if strings.ContainsFunc(path, func(r rune) bool {
		return r <= ' ' || r == 0x7f || r == '\\' || r == utf8.RuneError || r >= 0x80 && r <= 0x9f
	}) {
		return "/"
	}
	if !slices.ContainsFunc(places, func(p string) bool { return strings.HasPrefix(path, p) }) ||
		strings.Contains(path, "//") {
		return "/"
	}
	return (&url.URL{Path: path}).EscapedPath()
}

func (s *Web) pageSignIn(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	if err := r.ParseForm(); err != nil {
		s.signInPage(w, r, http.StatusBadRequest, "The form could not be read; please try again.", "", "")
		return
	}
	name, next := strings.TrimSpace(r.PostForm.Get("name")), r.PostForm.Get("next")
	token, m, err := s.SignIn(r, name, r.PostForm.Get("password"), "", browser(r.UserAgent()), store.ForPage)
	var st *live.StatusError
	var wanted *live.SecondWanted
	switch {
	case errors.As(err, &wanted):
		s.secondPage(w, http.StatusOK, "", wanted.Ticket, next)
	case errors.As(err, &st):
		said := sentence(st.What)
		if st.Status == http.StatusForbidden {
			said += " " + sentence(st.Fix)
		}
		if st.Status == http.StatusTooManyRequests {
			said += " " + sentence(st.Fix)
			w.Header().Set("Retry-After", fmt.Sprint(int(st.Wait.Seconds())+1))
		}
		s.signInPage(w, r, st.Status, said, name, next)
	case err != nil:
		s.Log.Error("sign-in could not be done", "why", err)
		s.signInPage(w, r, http.StatusInternalServerError,
			"The sign-in could not be done; the administrator finds the reason in the log.", name, next)
	default:
		s.comeIn(w, r, token, m)
		http.Redirect(w, r, Local(next), http.StatusSeeOther)
	}
}

// comeIn gives a browser what it is signed in by.
func (s *Web) comeIn(w http.ResponseWriter, r *http.Request, token string, m store.Member) {
	v := live.VisitorOf(r)
	http.SetCookie(w, &http.Cookie{Name: v.Session(), Value: token, Path: "/",
		MaxAge: int(live.Stays[store.ForPage].Ends.Seconds()), HttpOnly: true, SameSite: http.SameSiteLaxMode,
		Secure: v.Secure})
	s.Known.Remember(w, m.ID, v.Secure)
}

// pageInvite lets somebody with an invite choose a password.
func (s *Web) pageInvite(w http.ResponseWriter, r *http.Request) {
	token := r.PathValue("token")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer") // the address is the invite
	i, err := s.Invited(r, token)
	said := ""
	if err == nil && r.Method == http.MethodPost {
		r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
		password := r.PostFormValue("password")
		if password != r.PostFormValue("again") {
			said = "The two were not the same; please try again."
		} else {
			var session string
			var m store.Member
			if session, m, err = s.Accept(r, token, password, browser(r.UserAgent())); err == nil {
				s.comeIn(w, r, session, m)
				http.Redirect(w, r, "/", http.StatusSeeOther)
				return
			}
		}
	}
	status := http.StatusOK
	var st *live.StatusError
	switch {
	case errors.As(err, &st) && st.Status == http.StatusBadRequest: // the password
		status, said = st.Status, sentence(st.What)+" "+sentence(st.Why)
	case err != nil:
		s.failed(w, r, err)
		return
	}
	_, passkeys := live.PasskeysHere(r)
	s.Show(w, status, "invite", struct {
		Frame
		Said, Name, Action string
		Passkeys           bool
	}{s.Frame(nil, "An invite", ""), said, i.Name, live.InvitePath + token, passkeys})
}

// browser names a device by what its browser says of itself, in a few words.
func browser(agent string) string {
	system := ""
	for _, w := range []string{"Android", "iPhone", "iPad", "Windows", "Macintosh", "Linux"} {
		if strings.Contains(agent, w) {
			system = " on " + w
			break
		}
	}
	return "browser" + system
}

func (s *Web) pageSignOut(w http.ResponseWriter, r *http.Request) error {
	if live.VisitorOf(r).Device.Screen != 0 {
		// On a screen for several one stays until somebody else is picked.
		http.Redirect(w, r, "/who", http.StatusSeeOther)
		return nil
	}
	if err := s.Store.RemoveDevice(r.Context(), live.VisitorOf(r).Device.ID); err != nil {
		return err
	}
	v := live.VisitorOf(r)
	http.SetCookie(w, &http.Cookie{Name: v.Session(), Path: "/", MaxAge: -1, HttpOnly: true,
		SameSite: http.SameSiteLaxMode, Secure: v.Secure})
	s.Cuts.Cut(v.Member.ID)
	http.Redirect(w, r, "/", http.StatusSeeOther)
	return nil
}

// board is a shelf as it is shown.
type board struct {
	Name, Count         string
	Kind                household.Kind
	Titles              []title
	Unplugged, Scanning bool
	Before, Next        *store.Place // where the pages before and after begin
	Initials            []string     // of a shelf of several pages
}

// onPage is how many titles of a shelf a page shows.
const onPage = 60

func (s *Web) boards(r *http.Request, only string, at store.Place, back bool, limit int) ([]board, error) {
	list, err := s.ShelvesOf(r)
	if err != nil {
		return nil, err
	}
	var out []board
	for _, sh := range list {
		if only != "" && sh.Name != only {
			continue
		}
		b := board{Name: sh.Name, Kind: sh.Kind, Unplugged: len(sh.Unplugged) > 0, Scanning: sh.Scanning}
		page, err := s.Store.TitlePage(r.Context(),
			store.Wanted{Shelf: sh.Name, At: at, Back: back, Limit: limit, Usable: !live.SeesAll(r),
				Sight: s.SightOf(live.VisitorOf(r).Member)})
		if err != nil {
			return nil, err
		}
		b.Titles, b.Before, b.Next = titlesOf(page.Titles), page.Before, page.Next
		if len(b.Titles) > 0 {
			b.Count = fmt.Sprintf("%s · %s", humanize.Comma(int64(sh.Titles)), humanize.IBytes(uint64(sh.Size)))
		}
		if only != "" && (b.Before != nil || b.Next != nil) {
			if b.Initials, err = s.Store.Initials(r.Context(), sh.Name,
				s.SightOf(live.VisitorOf(r).Member)); err != nil {
				return nil, err
			}
		}
		out = append(out, b)
	}
	return out, nil
}

// onHome is how many titles of a shelf the first page shows.
const onHome = 18

func (s *Web) home(w http.ResponseWriter, r *http.Request) error {
	v := live.VisitorOf(r)
	boards, err := s.boards(r, "", store.PlaceOf(""), false, onHome)
	if err != nil {
		return err
	}
	list, err := s.Store.Begun(r.Context(), v.Member.ID, 4)
	if err != nil {
		return err
	}
	page := homePage{Frame: s.Frame(v, "", ""), Boards: boards}
	if page.Unheard, err = s.unheard(r); err != nil {
		return err
	}
	if page.Others, err = s.unheardOthers(r); err != nil {
		return err
	}
	if page.Changes, page.ChangesUntil, err = s.untold(r); err != nil {
		return err
	}
	if page.Made, err = s.made(r); err != nil {
		return err
	}
	for _, b := range list {
		if shown, err := s.Store.Shows(r.Context(), s.SightOf(v.Member), b.Title); err != nil || !shown {
			continue
		}
		page.Begun = append(page.Begun, begun{titleOf(b.Title), fileOf(b.File)})
	}
	s.Show(w, http.StatusOK, "home", page)
	return nil
}

// homePage is the first page, or that of one shelf.
type homePage struct {
	Frame
	Unheard []ownDevice    // of which the member is told
	Others  []othersDevice // of which an administrator is told
	Changes []ownChange    // to how the member signs in, of which they are told
	// ChangesUntil is the last of them, by its number.
	ChangesUntil int64
	Made         string // what is to be done about a passphrase that was made for the member
	Begun        []begun
	Boards       []board
	Whole        bool   // a shelf's own page
	Bring        string // the shelf that this member may bring something onto from this page
}

// pageFind shows what was searched for.
func (s *Web) pageFind(w http.ResponseWriter, r *http.Request) error {
	q := r.URL.Query().Get("q")
	if len(q) > 200 {
		q = strings.ToValidUTF8(q[:200], "")
	}
	list, err := s.Hits(r.Context(), q, 60, live.SeesAll(r), s.SightOf(live.VisitorOf(r).Member))
	if err != nil {
		return err
	}
	f := s.Frame(live.VisitorOf(r), "Find", "")
	f.Query = q
	hits := make([]hit, len(list))
	for i, h := range list {
		hits[i] = hit{titleOf(h.Title), h.Part}
	}
	s.Show(w, http.StatusOK, "find", struct {
		Frame
		Hits []hit
	}{f, hits})
	return nil
}

func (s *Web) pageShelf(w http.ResponseWriter, r *http.Request) error {
	name := r.PathValue("shelf")
	q := r.URL.Query()
	at := q.Get("from") + q.Get("before")
	if len(at) > 2000 {
		at = ""
	}
	boards, err := s.boards(r, name, store.PlaceOf(at), q.Has("before"), onPage)
	if err != nil {
		return err
	}
	if len(boards) == 0 {
		return live.Nothing(r)
	}
	page := homePage{Frame: s.Frame(live.VisitorOf(r), name, name), Boards: boards, Whole: true}
	r.SetPathValue("shelf", name)
	if _, err := s.MayBring(r); err == nil {
		page.Bring = name
	}
	s.Show(w, http.StatusOK, "home", page)
	return nil
}

// group is a season, or all parts where there are none.
type group struct {
	Name  string
	Files []file
}

func (s *Web) pageTitle(w http.ResponseWriter, r *http.Request) error {
	t, files, err := s.TitleOf(r)
	if err != nil {
		return err
	}
	var groups []group
	var first *file
	for _, row := range files {
		name := ""
		if t.Kind == household.Series {
			name = fmt.Sprintf("Season %d", row.Season)
			if row.Season == 0 {
				name = "Specials"
			}
		}
		if row.Extra != "" {
			name = "Extras"
		}
		if len(groups) == 0 || groups[len(groups)-1].Name != name {
			groups = append(groups, group{Name: name})
		}
		g := &groups[len(groups)-1]
		f := fileOf(row)
		g.Files = append(g.Files, f)
		// What was begun continues; else the first that was not seen.
		if f.Problem == "" && (first == nil || first.Seen && !f.Seen || first.ResumeAt == 0 && f.ResumeAt > 0) {
			first = &f
		}
	}
	d, err := s.Store.Described(r.Context(), t.ID)
	if err != nil {
		return err
	}
	all, err := s.Store.PreparedOfTitle(r.Context(), t.ID)
	if err != nil {
		return err
	}
	copies := map[int64][]store.Prepared{}
	for _, p := range all {
		copies[p.File] = append(copies[p.File], p)
	}
	may := s.Converter.Load() != nil && live.MayTake(r)
	s.Show(w, http.StatusOK, "title", struct {
		Frame
		Title      title
		Says       describe.Description
		First      *file
		Groups     []group
		Copies     map[int64][]store.Prepared
		MayPrepare bool
	}{s.Frame(live.VisitorOf(r), t.Name, t.Shelf), titleOf(t), d.Description, first, groups, copies, may})
	return nil
}

func (s *Web) pagePlay(w http.ResponseWriter, r *http.Request) error {
	t, f, err := s.FileOf(r)
	if err != nil {
		return err
	}
	if f.Content != string(naming.Picture) {
		if err := s.MayWatch(r, f.ID); err != nil {
			return err
		}
	}
	files, err := s.Store.Files(r.Context(), t.ID, live.VisitorOf(r).Member.ID)
	if err != nil {
		return err
	}
	data := struct {
		Frame
		Title         title
		File          file
		Before, After *file
		From          float64 // where it begins, in seconds
		Admin         bool
		MayConvert    bool
		Together      string // the room in which it is watched; empty for none
		Sounds        []spoken
		Chapters      []media.Chapter
		Loud          *media.Loud
		Tracks        []track
	}{Frame: s.Frame(live.VisitorOf(r), t.Name, t.Shelf), Title: titleOf(t), File: fileOf(f),
		Tracks: tracks(f, s.Settings.Language), Sounds: sounds(f),
		From: f.ResumeAt, Admin: live.SeesAll(r),
		MayConvert: s.Converter.Load() != nil && f.Content == string(naming.Video)}
	data.Together = roomAsked(r)
	if r.URL.Query().Get("from") == "0" {
		data.From = 0
	}
	if data.Chapters, data.Loud, err = s.Findings(r.Context(), f.ID); err != nil {
		return err
	}
	for i := range files {
		if files[i].ID == f.ID {
			if i > 0 {
				before := fileOf(files[i-1])
				data.Before = &before
			}
			if i+1 < len(files) {
				after := fileOf(files[i+1])
				data.After = &after
			}
		}
	}
	s.Show(w, http.StatusOK, "play", data)
	return nil
}

// cloths are the colours of covers: cloth, and the print on it.
var cloths = [][2]string{
	{"#7c3f2c", "#f3dcc0"}, {"#31544a", "#e9e0c4"}, {"#2f4562", "#eadfc8"}, {"#8a6a2f", "#fdf3da"},
	{"#5b3a52", "#f0dfe0"}, {"#4d5a2f", "#eef0d5"}, {"#6b2f3a", "#f6dcd0"}, {"#3b4a4f", "#e3e9e4"},
}

// cover draws a title as a cloth-bound book; which cloth follows from its name.
func (s *Web) cover(w http.ResponseWriter, r *http.Request) error {
	id, err := live.Number(r, "title")
	if err != nil {
		return err
	}
	t, err := s.Title(r, id)
	if err != nil {
		return err
	}
	d, err := s.Store.Described(r.Context(), id)
	if err != nil {
		return err
	}
	if d.Picture != "" {
		width := picture.Widths[0]
		if r.URL.Query().Get("large") != "" {
			width = picture.Widths[1]
		}
		if b, err := os.ReadFile(picture.Path(s.Pictures(), d.Picture, width)); err == nil {
			w.Header().Set("Content-Type", "image/jpeg")
			w.Header().Set("Cache-Control", "private, max-age=600")
			w.Header().Set("ETag", `"`+d.Picture+`"`)
			_, _ = w.Write(b) // the client has gone, if this fails
			return nil
		}
	}
	h := fnv.New32a()
	h.Write([]byte(t.Name))
	n := h.Sum32()
	c := cloths[n%uint32(len(cloths))]
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 180 240"><rect width="180" height="240`+
		`" fill="%s"/><rect width="14" height="240" fill="#000" opacity=".22"/><rect x="14" width="2" height="240" `+
		`fill="#fff" opacity=".12"/>`, c[0])
	fmt.Fprintf(&b, `<rect x="26" y="12" width="142" height="216" rx="3" fill="none" stroke="%s" stroke-width="1`+
		`.2" opacity=".75"/>`, c[1])
	ornament(&b, n>>8, c[1])
	lines := wrap(t.Name, 13, 5)
	y := 62 - 6*len(lines)
	for i, l := range lines {
		fmt.Fprintf(&b, `<text x="97" y="%d" text-anchor="middle" font-family="Georgia, DejaVu Serif, serif" fon`+
			`t-size="18" fill="%s">%s</text>`, y+22*i+6, c[1], template.HTMLEscapeString(l))
	}
	if t.By != "" || t.Year > 0 {
		foot := t.By
		if foot == "" {
			foot = fmt.Sprint(t.Year)
		}
		fmt.Fprintf(&b, `<text x="97" y="217" text-anchor="middle" font-family="Georgia, DejaVu Serif, serif" fo`+
			`nt-size="11" fill="%s">%s</text>`, c[1], template.HTMLEscapeString(wrap(foot, 24, 1)[0]))
	}
	b.WriteString(`</svg>`)
	w.Header().Set("Content-Type", "image/svg+xml")
	w.Header().Set("Cache-Control", "private, max-age=3600")
	_, _ = w.Write([]byte(b.String())) // the client has gone, if this fails
	return nil
}

// ornament draws a small figure of rings, rays or waves.
func ornament(b *strings.Builder, n uint32, colour string) {
	fmt.Fprintf(b, `<g fill="none" stroke="%s" stroke-width="1.6" opacity=".85">`, colour)
	switch n % 3 {
	case 0:
		for i := range 2 + n/3%3 {
			fmt.Fprintf(b, `<circle cx="97" cy="160" r="%d"/>`, 8+9*i)
		}
	case 1:
		for i := range 12 {
			fmt.Fprintf(b, `<path d="M97 %dV%d" transform="rotate(%d 97 160)"/>`, 148, 128+n/3%3*4, i*30)
		}
		b.WriteString(`<circle cx="97" cy="160" r="7"/>`)
	case 2:
		for i := range 3 + n/3%3 {
			fmt.Fprintf(b, `<path d="M57 %dq10 -9 20 0t20 0t20 0t20 0"/>`, 140+11*i)
		}
	}
	b.WriteString(`</g>`)
}

// wrap breaks a text into lines of about width characters; what is too long is cut.
func wrap(s string, width, most int) []string {
	var lines []string
	line := ""
	for _, word := range strings.Fields(s) {
		if r := []rune(word); len(r) > width {
			word = string(r[:width-1]) + "…"
		}
		switch {
		case line == "":
			line = word
		case len([]rune(line))+1+len([]rune(word)) <= width:
			line += " " + word
		default:
			lines = append(lines, line)
			line = word
		}
	}
	lines = append(lines, line)
	if len(lines) > most {
		lines = lines[:most]
		lines[most-1] += "…"
	}
	return lines
}
