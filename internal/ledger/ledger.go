// Package ledger keeps the record of every change made to the host or the
// deployment: one JSON line each, appended to a file in the state folder and
// synced before the command goes on.
package ledger

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// File is the ledger's name in the state folder.
const File = "ledger.jsonl"

// Entry is one change.
type Entry struct {
	At      time.Time `json:"at"`
	Who     string    `json:"who"`     // account that ran the command
	Command string    `json:"command"` // such as "deploy"
	Action  string    `json:"action"`
	What    string    `json:"what"`
	Why     string    `json:"why"`
	Outcome string    `json:"outcome"` // done, or why it failed
}

// Append adds an entry. The file belongs to whoever owns the state folder. A
// line that a crash left without its end is ended first.
func Append(state string, e Entry) error {
	b, err := json.Marshal(e)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(filepath.Join(state, File), os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	// Written by root or by others: it belongs to whom the state belongs to,
	// like all in the folder.
	if dir, err := os.Stat(state); err == nil && os.Getuid() == 0 {
		owner := dir.Sys().(*syscall.Stat_t)
		if err := f.Chown(int(owner.Uid), int(owner.Gid)); err != nil {
			return err
		}
	}
	if end, err := f.Seek(0, 2); err == nil && end > 0 {
		last := make([]byte, 1)
		if _, err := f.ReadAt(last, end-1); err == nil && last[0] != '\n' {
			b = append([]byte{'\n'}, b...)
		}
	}
	if _, err := f.Write(append(b, '\n')); err != nil {
		return err
	}
	return f.Sync()
}

// Read gives all entries, oldest first. Lines that cannot be read are counted.
func Read(state string) (list []Entry, damaged int, err error) {
	b, err := os.ReadFile(filepath.Join(state, File))
	if errors.Is(err, os.ErrNotExist) {
		return nil, 0, nil
	}
	if err != nil {
		return nil, 0, fmt.Errorf("reading the ledger: %w", err)
	}
	for s := bufio.NewScanner(bytes.NewReader(b)); s.Scan(); {
		if len(s.Bytes()) == 0 {
			continue
		}
		var e Entry
		if json.Unmarshal(s.Bytes(), &e) != nil {
			damaged++
			continue
		}
		list = append(list, e)
	}
	return list, damaged, nil
}
