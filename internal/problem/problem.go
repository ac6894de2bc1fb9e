// Package problem holds the one kind of error that people see: what failed,
// where, why, and what to do next. Code decides by errors.As on *Problem;
// people read the four lines; programs read the JSON.
//
// A Problem wraps the error that caused it, so that errors.Is sees through it, and says with which
// code the program ends (ExitFailed where it says nothing). Code gives that for any error.
package problem

import (
	"encoding/json"
	"errors"
	"io/fs"
	"path/filepath"
	"strings"
	"syscall"

	"cozyshelf/internal/core/plain"
)

// Exit codes of the program. They are part of its interface.
const (
	ExitDone    = 0
	ExitFailed  = 1
	ExitUsage   = 2 // the command line or the household file is wrong
	ExitFound   = 3 // done, but problems were found (check)
	ExitRefused = 4 // refused without --yes
)

// Problem is one error as people see it. What is a sentence about what failed;
// the other texts may be empty.
type Problem struct {
	What  string // what failed: "the household file cannot be used"
	Where string // a path, an address, or "household.toml:12:3"
	Why   string // the cause, in plain words
	Fix   string // what to do next
	Exit  int    // exit code; 0 stands for ExitFailed
	Err   error  // the underlying error, for errors.Is; may be nil
}

// Error gives all parts on one line, for logs.
func (p *Problem) Error() string {
	var b strings.Builder
	b.WriteString(p.What)
	if p.Where != "" {
		b.WriteString(" (" + p.Where + ")")
	}
	if p.Why != "" {
		b.WriteString(": " + p.Why)
	}
	return b.String()
}

// Unwrap gives the underlying error.
func (p *Problem) Unwrap() error { return p.Err }

// MarshalJSON gives {"problem":…,"where":…,"why":…,"fix":…}.
func (p *Problem) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		Problem string `json:"problem"`
		Where   string `json:"where"`
		Why     string `json:"why"`
		Fix     string `json:"fix"`
	}{p.What, p.Where, p.Why, p.Fix})
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (p *Problem) UnmarshalJSON(b []byte) error {
	var in struct{ Problem, Where, Why, Fix string }
	if err := json.Unmarshal(b, &in); err != nil {
		return err
	}
	p.What, p.Where, p.Why, p.Fix = in.Problem, in.Where, in.Why, in.Fix
	return nil
}

// Text gives the problem as a person reads it, over several lines, with no
// newline at the end.
func (p *Problem) Text() string {
	var b strings.Builder
	b.WriteString("problem: " + plain.Line(p.What))
	for _, row := range [][2]string{{"where", plain.Line(p.Where)}, {"why", plain.Text(p.Why)},
		{"fix", plain.Text(p.Fix)}} {
		if row[1] != "" {
			b.WriteString("\n" + strings.Repeat(" ", 7-len(row[0])) + row[0] + ": " +
				strings.ReplaceAll(row[1], "\n", "\n         "))
		}
	}
	return b.String()
}

// Of finds the Problem in err, or wraps err in one, so that everything shown
// has the same form. Of(nil) is nil.
func Of(err error) *Problem {
	if err == nil {
		return nil
	}
	var p *Problem
	if !errors.As(err, &p) {
		p = &Problem{What: err.Error(), Err: err}
		var at *fs.PathError
		if errors.As(err, &at) {
			p = &Problem{What: "it did not work", Where: at.Path, Why: at.Op + ": " + at.Err.Error(),
				Fix: "see what is there, and try again", Err: err}
			if errors.Is(err, fs.ErrPermission) {
				p.Fix = "run it as root, or as an account that may do that"
			}
		}
	}
	return p
}

// ForHost is Of for whoever runs the machine: what the system says of a disk goes before
// what the place that met it could advise. It names paths of the machine.
func ForHost(err error) *Problem {
	p := Of(err)
	if p == nil {
		return nil
	}
	if fix := ofDisk(err, p.Where); fix != "" {
		other := *p
		other.Fix = fix
		return &other
	}
	return p
}

// ofDisk says what helps where a disk is full, or does not work.
func ofDisk(err error, where string) string {
	var at *fs.PathError
	if errors.As(err, &at) {
		where = filepath.Dir(at.Path)
	}
	on := "there"
	if where != "" {
		on = "on the disk of " + where
	}
	switch {
	case errors.Is(err, syscall.ENOSPC):
		return "free some space " + on + ", then run the same command again: it continues from where it stopped"
	case errors.Is(err, syscall.EDQUOT):
		return "the account's quota is used up " + on + ": raise it or free some space, then run the same command again"
	case errors.Is(err, syscall.EROFS):
		return "the file system " + on + " is mounted to be read only: mount it to be written to; " +
			"where the system did that by itself, look for disk errors in the kernel's log first"
	case errors.Is(err, syscall.EIO):
		return "the system met a fault " + on +
			": look into the kernel's log, copy what matters to another disk, and check this one"
	}
	return ""
}

// Code is the exit code for err: 0 for nil, ExitFailed where nothing else is said.
func Code(err error) int {
	if err == nil {
		return ExitDone
	}
	if p := Of(err); p.Exit != 0 {
		return p.Exit
	}
	return ExitFailed
}
