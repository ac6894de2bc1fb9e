package permit

import (
	"path"
	"slices"
	"strings"
)

// Proof is what came of really trying one folder.
type Proof struct {
	Files   int  `json:"files"` // that were met
	Folders int  `json:"folders"`
	Tried   int  `json:"tried"` // files opened, or tried to be; of a sample, fewer than all
	Read    int  `json:"read"`
	Listed  int  `json:"listed"`
	Written int  `json:"written"` // folders in which a file was made and removed
	Failing int  `json:"failing"`
	Cut     bool `json:"cut,omitempty"` // a sample was chosen from the first that were met

	Disagreements []Disagreement `json:"disagreements"`
}

// Trial is one thing that was tried.
type Trial struct {
	Path string // below the folder; empty for itself
	Kind string
	Need string // read, list or write
	OK   bool
	Why  string
}

// Disagreement is a path where what was computed and what the kernel did are two.
type Disagreement struct {
	Path     string `json:"path"`
	Need     string `json:"need"`
	Computed bool   `json:"computed"`
	Kernel   bool   `json:"kernel"`
	Why      string `json:"why"`
}

// Proving compares what was computed of one folder with what is tried.
type Proving struct {
	root   string
	fails  map[string]string // need and path to cause, as computed
	met    map[string]bool   // those of them that failed when tried
	above  bool
	sample bool
	list   []Disagreement
}

// NewProving begins a comparison. Its Fails goes into the Need of the audit.
func NewProving(root string, sample bool) *Proving {
	return &Proving{root: root, fails: map[string]string{}, met: map[string]bool{}, sample: sample}
}

// Fails takes note of what was computed to fail.
func (p *Proving) Fails(f Finding) {
	if !Below(f.Path, p.root) {
		p.above = true // nothing below can be reached
		return
	}
	if !f.Unsure {
		p.fails[f.Need+" "+f.Path] = f.Cause
	}
}

// Tried compares one trial.
func (p *Proving) Tried(t Trial) {
	at := path.Join(p.root, t.Path)
	key := t.Need + " " + at
	cause, fails := p.fails[key]
	switch {
	case !t.OK && fails, !t.OK && p.above:
		p.met[key] = true
	case !t.OK:
		p.list = append(p.list, Disagreement{Path: at, Need: t.Need, Computed: true, Why: t.Why})
	case fails || p.above:
		p.list = append(p.list, Disagreement{Path: at, Need: t.Need, Kernel: true, Why: cause})
	}
}

// End gives the disagreements, sorted. there tells whether a path still exists:
// one that vanished meanwhile is none. Where all was tried, what was computed to
// fail and did not is one too, unless it lies behind a folder that is closed.
func (p *Proving) End(there func(string) bool) []Disagreement {
	if !p.sample && !p.above {
		for key, cause := range p.fails {
			need, at, _ := strings.Cut(key, " ")
			if !p.met[key] && !p.behind(at) && !(need == "write" && p.met["list "+at]) {
				p.list = append(p.list, Disagreement{Path: at, Need: need, Kernel: true, Why: cause})
			}
		}
	}
	p.list = slices.DeleteFunc(p.list, func(d Disagreement) bool { return !there(d.Path) })
	slices.SortFunc(p.list, func(a, b Disagreement) int { return strings.Compare(a.Path+a.Need, b.Path+b.Need) })
	p.list = slices.CompactFunc(p.list, func(a, b Disagreement) bool { return a.Path == b.Path && a.Need == b.Need })
	if p.list == nil {
		return []Disagreement{}
	}
	return p.list
}

// behind reports whether a path lies behind a folder that could not be listed.
func (p *Proving) behind(at string) bool {
	for at != p.root && at != "/" && at != "." {
		at = path.Dir(at)
		if p.met["list "+at] {
			return true
		}
	}
	return false
}
