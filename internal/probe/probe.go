// Package probe tries what the server would do on its shelves: it lists, opens
// and reads the first byte, and makes and removes a file where the shelf is to be
// changed. It runs inside the container, or as the run-as account, and writes
// what it found as JSON lines, which the tool on the host compares with what was
// computed.
package probe

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"time"
	"unicode/utf8"

	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/machine"

	"golang.org/x/sys/unix"
)

// Spec says what is to be tried.
type Spec struct {
	Folders []Folder      `json:"folders"`
	Sample  int           `json:"sample"` // files a folder; 0 for all
	Seed    uint64        `json:"seed"`   // of the dice that choose a sample
	Within  time.Duration `json:"within"` // of a sample: how long to look for files to choose from; 0 for no bound
	Aside   string        `json:"aside"`  // the name of folders that are left out, wherever they lie; empty for none
}

// Folder is one folder as it is mounted.
type Folder struct {
	Path  string `json:"path"`
	Write bool   `json:"write"`
}

// line is one line of what is written: a trial, or the sums of a folder.
type line struct {
	Folder int    `json:"folder"`
	Path   string `json:"path,omitempty"` // below the folder; empty for itself
	Raw    string `json:"raw,omitempty"`  // base64 of a path that is not valid UTF-8
	Kind   string `json:"kind,omitempty"` // file or folder
	Need   string `json:"need,omitempty"`
	OK     bool   `json:"ok,omitempty"`
	Why    string `json:"why,omitempty"`

	Sums *permit.Proof `json:"sums,omitempty"`
	// Opened is how many files of the folder were opened so far, in a line of its own.
	Opened int `json:"opened,omitempty"`
}

// often is how often it is told how many files were opened.
const often = 500 * time.Millisecond

// Run tries what the spec says. Of all files, only failures are written; of a
// sample, every trial.
func Run(spec Spec, to io.Writer) error {
	w := bufio.NewWriter(to)
	enc := json.NewEncoder(w)
	for i, f := range spec.Folders {
		p := &prober{spec: spec, folder: f, n: i, write: enc.Encode, dice: rand.New(rand.NewPCG(spec.Seed, uint64(i))),
			flush: w.Flush, told: time.Now()}
		if spec.Within > 0 {
			p.until = time.Now().Add(spec.Within)
		}
		p.walk("")
		for _, rel := range p.chosen {
			p.file(rel)
		}
		for _, rel := range p.folders {
			p.change(rel)
		}
		if p.err == nil {
			p.err = enc.Encode(line{Folder: i, Sums: &p.sums})
		}
		if p.err != nil {
			return p.err
		}
	}
	return w.Flush()
}

type prober struct {
	spec    Spec
	folder  Folder
	n       int
	write   func(any) error
	flush   func() error
	told    time.Time // when it was last told how many files were opened
	err     error
	dice    *rand.Rand
	until   time.Time
	sums    permit.Proof
	chosen  []string // of a sample: files
	folders []string // of a sample: folders to write in
	met     int      // folders that could be written in
}

func (p *prober) say(rel, kind, need string, err error) {
	if err == nil && p.spec.Sample == 0 || errors.Is(err, fs.ErrNotExist) || p.err != nil {
		return
	}
	l := line{Folder: p.n, Path: rel, Kind: kind, Need: need, OK: err == nil}
	if err != nil {
		p.sums.Failing++
		l.Why = plain(err)
	}
	if !utf8.ValidString(rel) {
		l.Path, l.Raw = "", base64.StdEncoding.EncodeToString([]byte(rel))
	}
	p.err = p.write(l)
}

func plain(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	return err.Error()
}

// walk lists a folder and goes down.
func (p *prober) walk(rel string) {
	if !p.until.IsZero() && time.Now().After(p.until) {
		p.sums.Cut = true
		return
	}
	at := path.Join(p.folder.Path, rel)
	var below []string
	// Each file is tried as it is met, so that a folder of a million takes no
	// room; folders wait until theirs is listed.
	err := machine.List(at, func(e machine.Entry) {
		sub := path.Join(rel, e.Name)
		switch {
		case e.Link:
		case e.Folder && e.Name == p.spec.Aside:
		case e.Folder:
			below = append(below, sub)
		case e.File:
			p.sums.Files++
			switch n := p.spec.Sample; {
			case n == 0:
				p.file(sub)
			case len(p.chosen) < n:
				p.chosen = append(p.chosen, sub)
			default: // each file met has the same chance (reservoir sampling)
				if i := p.dice.IntN(p.sums.Files); i < n {
					p.chosen[i] = sub
				}
			}
		}
	})
	if err == nil {
		// To list it is not yet to pass through it.
		err = unix.Access(at+"/.", unix.F_OK)
	}
	p.sums.Folders++
	p.say(rel, "folder", "list", err)
	if err != nil {
		return
	}
	p.sums.Listed++
	if p.folder.Write {
		p.met++
		switch n := p.spec.Sample; {
		case n == 0:
			p.change(rel)
		case len(p.folders) < n:
			p.folders = append(p.folders, rel)
		default:
			if i := p.dice.IntN(p.met); i < n {
				p.folders[i] = rel
			}
		}
	}
	if p.spec.Sample == 0 && p.err == nil && time.Since(p.told) > often {
		p.told = time.Now()
		p.err = errors.Join(p.write(line{Folder: p.n, Opened: p.sums.Tried}), p.flush())
	}
	for _, sub := range below {
		p.walk(sub)
	}
}

// file opens a file and reads its first byte.
func (p *prober) file(rel string) {
	p.sums.Tried++
	fd, err := unix.Open(path.Join(p.folder.Path, rel),
		unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NONBLOCK|unix.O_NOFOLLOW|unix.O_NOCTTY, 0)
	if err == nil {
		_, err = unix.Read(fd, make([]byte, 1))
		unix.Close(fd)
	}
	if err == nil {
		p.sums.Read++
	}
	p.say(rel, "file", "read", err)
}

// change makes a file in a folder and removes it.
func (p *prober) change(rel string) {
	name := path.Join(p.folder.Path, rel, fmt.Sprintf(".cozyshelf-probe-%016x", p.dice.Uint64()))
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err == nil {
		err = errors.Join(f.Close(), os.Remove(name))
	}
	if err == nil {
		p.sums.Written++
	}
	p.say(rel, "folder", "write", err)
}

// Read reads what a probe wrote: it calls tried for each trial, and gives the
// sums of each folder. A probe that did not come to its end is an error. opened, unless nil,
// hears now and then how many files were opened so far.
func Read(from io.Reader, folders int, tried func(folder int, t permit.Trial),
	opened func(n int)) ([]permit.Proof, error) {
	out := make([]permit.Proof, folders)
	ended, before := 0, 0 // files of the folders that have ended
	dec := json.NewDecoder(from)
	for {
		var l line
		err := dec.Decode(&l)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("what the probe said cannot be read: %w", err)
		}
		if l.Folder < 0 || l.Folder >= folders {
			return nil, fmt.Errorf("the probe speaks of folder %d of %d", l.Folder, folders)
		}
		if l.Sums != nil {
			out[l.Folder] = *l.Sums
			ended++
			before += l.Sums.Tried
			l.Opened = 0
		}
		if l.Sums != nil || l.Opened > 0 {
			if opened != nil {
				opened(before + l.Opened)
			}
			continue
		}
		if l.Raw != "" {
			b, err := base64.StdEncoding.DecodeString(l.Raw)
			if err != nil {
				return nil, err
			}
			l.Path = string(b)
		}
		tried(l.Folder, permit.Trial{Path: l.Path, Kind: l.Kind, Need: l.Need, OK: l.OK, Why: l.Why})
	}
	if ended != folders {
		return nil, fmt.Errorf("the probe ended after %d of %d folders", ended, folders)
	}
	return out, nil
}
