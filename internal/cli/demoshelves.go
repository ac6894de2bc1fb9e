package cli

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/library"
	"cozyshelf/internal/standin"
)

// names shows how badly named films are tidied, and how that is taken back.
func (w *walk) names() error {
	w.say("One film is badly named. What it should be called, and how sure that is; then it is done.")
	if err := w.run("", "tidy", "films", "--yes"); err != nil {
		return err
	}
	entry, err := w.last("rename")
	if err != nil {
		return err
	}
	w.say("Taken back: the name is as it was. No byte of the file ever changed.")
	return w.run("", "undo", fmt.Sprint(entry), "--yes")
}

// last gives the number of the last entry of the ledger with an action.
func (w *walk) last(action string) (int, error) {
	list, err := w.entries()
	entry := 0
	for _, e := range list {
		if e.Action == action {
			entry = e.ID
		}
	}
	if err == nil && entry == 0 {
		err = fmt.Errorf("the ledger has no entry %q", action)
	}
	return entry, err
}

// comesIn brings films in from a folder that stands for a disk: one new, one that is there
// already, one broken.
func (w *walk) comesIn() error {
	w.say("A disk with films is plugged in: one is new, one is here already, one is broken.")
	films, disk := filepath.Join(w.dir, "media", "films"), filepath.Join(w.dir, "disk")
	if err := os.Mkdir(disk, 0o755); err != nil {
		return err
	}
	spoilt := map[string]string{
		"The Understudy Moon (1996).mp4":  "The.Understudy.Moon.(1996).final.cut.mp4",
		"Copper Kite (2003).mkv":          "kite.mkv",
		"The Paper Lighthouse (2014).mp4": "lighthouse.mp4",
	}
	for from, to := range spoilt {
		b, err := os.ReadFile(filepath.Join(films, from))
		if err != nil {
			return err
		}
		switch to {
		case "lighthouse.mp4":
			b = b[:len(b)/2]
		case "kite.mkv":
		default:
			b = append(b, "\x00\x00\x00\x08free"...) // another version, as far as bytes go
		}
		if err := os.WriteFile(filepath.Join(disk, to), b, 0o644); err != nil {
			return err
		}
	}
	if err := w.run("", "intake", "copy", disk, "--onto", "films", "--yes"); err != nil {
		return err
	}
	entry, err := w.last("intake")
	if err != nil {
		return err
	}
	w.say("That goes back, too: it waits in the holding folder, kept until you clear it.")
	if err := w.run("", "undo", fmt.Sprint(entry), "--yes"); err != nil {
		return err
	}
	if err := w.run("", "intake", "list"); err != nil {
		return err
	}
	var held []struct{ ID string }
	if err := w.read(&held, "intake", "list"); err != nil {
		return err
	}
	for _, j := range held {
		if err := w.run("", "intake", "clear", j.ID, "--yes"); err != nil {
			return err
		}
	}
	return nil
}

// described asks a stand-in for the catalogues, which has entries for the made-up titles,
// and corrects what it says.
func (w *walk) described() error {
	listen, err := w.reachable()
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", net.JoinHostPort(listen, "0"))
	if err != nil {
		return err
	}
	if err := w.listens(listen); err != nil {
		l.Close()
		return err
	}
	asked := &pacer{next: standin.Household()}
	srv := &http.Server{Handler: asked, ReadHeaderTimeout: 5 * time.Second}
	over := make(chan error, 1)
	go func() { over <- srv.Serve(l) }()
	defer func() {
		srv.Close()
		<-over
	}()
	w.say("Open catalogues may be asked what the titles are, once the household file allows it. (A stand-in with " +
		"made-up entries plays their part.)")
	f, err := os.OpenFile(filepath.Join(w.dir, "household.toml"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(f, `
[lookup]
sources     = ["wikidata", "musicbrainz"]
pause       = "100ms"
wikidata    = "http://%[1]s/w/api.php"
commons     = "http://%[1]s/file/"
musicbrainz = "http://%[1]s/ws/2"
covers      = "http://%[1]s/covers"
%[2]s`, l.Addr(), w.asks)
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err := w.run("", "deploy", "--yes"); err != nil {
		return err
	}
	if err := w.run("", "shelf", "match", "The Paper Lighthouse", "--again"); err != nil {
		return err
	}
	w.say("Somebody takes the wrong one; then the right one, with a word of their own, which stays.")
	if err := w.run("", "shelf", "match", "The Paper Lighthouse", "--take", "wikidata Q900191"); err != nil {
		return err
	}
	if err := w.run("", "shelf", "match", "The Paper Lighthouse", "--take", "wikidata Q900101", "--edit",
		"genres=paper, sea"); err != nil {
		return err
	}
	w.say("The others follow in the background, at the pace that a catalogue is owed: a question a second for " +
		"those of " +
		"everybody, ten for each of these two, which are the household's own.")
	for began := time.Now(); time.Since(began) < 40*time.Second; time.Sleep(200 * time.Millisecond) {
		var list []library.Issue
		if err := w.read(&list, "shelf", "show", "films", "--problems"); err != nil {
			return err
		}
		if !slices.ContainsFunc(list, func(p library.Issue) bool { return p.Sort == library.NoDescription }) {
			break
		}
	}
	w.a.out.Printf("The two were asked %s; at most %d within one second\n",
		show.Count(asked.count(), "question", "questions"), asked.most())
	for _, what := range [][]string{{"shelf", "find", "quill"}, {"shelf", "show"},
		{"shelf", "show", "films", "--problems"}} {
		if err := w.run("", what...); err != nil {
			return err
		}
	}
	return nil
}

// reachable gives an address of this machine that the server reaches: from a container, one that is not only its own,
// and one of the home before any other.
func (w *walk) reachable() (string, error) {
	var st struct{ Engine string }
	if err := w.read(&st, "status"); err != nil {
		return "", err
	}
	if strings.HasPrefix(st.Engine, "process") {
		return "127.0.0.1", nil
	}
	list, err := net.InterfaceAddrs()
	if err != nil {
		return "", err
	}
	var found string
	for _, a := range list {
		n, ok := a.(*net.IPNet)
		switch {
		case !ok || n.IP.To4() == nil || !n.IP.IsGlobalUnicast():
		case n.IP.IsPrivate():
			return n.IP.String(), nil
		case found == "":
			found = n.IP.String()
		}
	}
	if found == "" {
		return "", errors.New("this machine has no address that a container could reach")
	}
	return found, nil
}

// pacer notes when a catalogue was asked.
type pacer struct {
	next http.Handler
	mu   sync.Mutex
	at   []time.Time
}

func (p *pacer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	p.at = append(p.at, time.Now())
	p.mu.Unlock()
	p.next.ServeHTTP(w, r)
}

func (p *pacer) count() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.at)
}

// most is how many questions came within one second at most.
func (p *pacer) most() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	most := 0
	for i, t := range p.at {
		n := 0
		for _, u := range p.at[i:] {
			if u.Sub(t) < time.Second {
				n++
			}
		}
		most = max(most, n)
	}
	return most
}
