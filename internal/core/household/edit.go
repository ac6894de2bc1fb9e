package household

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// header is a section of a household file: its name, and where the line with
// its brackets begins.
type header struct {
	name string
	at   int
}

// headers lists the sections in the order of the text.
func headers(text []byte) []header {
	var out []header
	var p unstable.Parser
	p.Reset(text)
	for p.NextExpression() {
		e := p.Expression()
		if e.Kind != unstable.Table && e.Kind != unstable.ArrayTable {
			continue
		}
		name, at := keyText(e)
		out = append(out, header{name, 1 + bytes.LastIndexByte(text[:at], '\n')})
	}
	return out
}

// end gives where the section before the one at an offset ends: blank lines and
// comments in between belong to what follows.
func end(text []byte, next int) int {
	for next > 0 {
		line := 1 + bytes.LastIndexByte(text[:next-1], '\n')
		s := strings.TrimSpace(string(text[line:next]))
		if s != "" && s[0] != '#' {
			break
		}
		next = line
	}
	return next
}

// AddShelf writes a shelf into the text of a household file, after the last one,
// and leaves all else as it is. The outcome is checked as a whole.
func AddShelf(name string, text []byte, s Shelf) ([]byte, error) {
	if s.Access == "" {
		s.Access = Read
	}
	var folders []string
	for _, f := range s.Folders {
		folders = append(folders, quote(f))
	}
	block := fmt.Sprintf("\n[[shelf]]\nname    = %s\nkind    = %s\nfolders = [%s]\naccess  = %s\n", quote(s.Name),
		quote(string(s.Kind)), strings.Join(folders, ", "), quote(string(s.Access)))
	if s.Credentials != "" {
		block += "credentials = " + quote(s.Credentials) + "\n"
	}
	if s.ScanEvery != "" {
		block += "scan_every = " + quote(s.ScanEvery) + "\n"
	}
	list := headers(text)
	at := len(text)
	for i, h := range list {
		if h.name != "shelf" {
			continue
		}
		at = len(text)
		if i+1 < len(list) {
			at = list[i+1].at
		}
		at = end(text, at)
	}
	if at > 0 && text[at-1] != '\n' {
		block = "\n" + block
	}
	out := bytes.Join([][]byte{text[:at], text[at:]}, []byte(block))
	if _, err := Decode(name, out); err != nil {
		return nil, err
	}
	return out, nil
}

// ErrNoShelf says that the text has no such shelf, or none that can be taken out
// by itself.
var ErrNoShelf = errors.New("no such [[shelf]] section")

// RemoveShelf takes a shelf out of the text of a household file, and leaves all
// else as it is.
func RemoveShelf(name string, text []byte, shelf string) ([]byte, error) {
	h, err := Decode(name, text)
	if err != nil {
		return nil, err
	}
	n := 0
	list := headers(text)
	for i, hd := range list {
		if hd.name != "shelf" {
			continue
		}
		n++
		if n > len(h.Shelves) || h.Shelves[n-1].Name != shelf {
			continue
		}
		stop := len(text)
		if i+1 < len(list) {
			stop = list[i+1].at
		}
		stop = end(text, stop)
		start := hd.at
		// The blank line that set it off goes too.
		if before := bytes.TrimRight(text[:start], " \t"); bytes.HasSuffix(before, []byte("\n\n")) {
			start = len(before) - 1
		}
		out := bytes.Join([][]byte{text[:start], text[stop:]}, nil)
		_, err := Decode(name, out)
		return out, err
	}
	return nil, ErrNoShelf
}

// AddGroup writes a supplementary group into the text of a household file, and
// leaves all else as it is. The outcome is checked as a whole.
func AddGroup(name string, text []byte, group string) ([]byte, error) {
	h, err := Decode(name, text)
	if err != nil {
		return nil, err
	}
	for _, g := range h.Server.Groups {
		if g == group {
			return text, nil
		}
	}
	at := locate(text)
	out := text
	if start, ok := at.at["server.groups"]; ok {
		// Before the bracket that closes the list, with a comma where it holds
		// something.
		close := closing(text, start)
		if close < 0 {
			return nil, errors.New("the list of groups cannot be found in the text")
		}
		item := quote(group)
		if len(h.Server.Groups) > 0 {
			item = ", " + item
			if last := bytes.TrimRight(text[:close], " \t\r\n"); last[len(last)-1] == ',' {
				item = " " + quote(group)
			}
		}
		out = bytes.Join([][]byte{bytes.TrimRight(text[:close], " \t\r\n"), text[close:]}, []byte(item))
	} else if start, ok := at.at["server"]; ok {
		line := start + bytes.IndexByte(append(text[start:len(text):len(text)], '\n'), '\n') + 1
		if run, ok := at.at["server.run_as"]; ok {
			line = run + bytes.IndexByte(append(text[run:len(text):len(text)], '\n'), '\n') + 1
		}
		line = min(line, len(text))
		entry := "groups  = [" + quote(group) + "]\n"
		if line > 0 && text[line-1] != '\n' {
			entry = "\n" + entry
		}
		out = bytes.Join([][]byte{text[:line], text[line:]}, []byte(entry))
	} else {
		return nil, errors.New("there is no [server] section to write groups into")
	}
	_, err = Decode(name, out)
	return out, err
}

// closing finds the bracket that closes the list of a key at an offset, past
// strings and comments; -1 where there is none.
func closing(text []byte, from int) int {
	quoted, comment := byte(0), false
	for i := from; i < len(text); i++ {
		c := text[i]
		switch {
		case comment:
			comment = c != '\n'
		case quoted != 0:
			if c == '\\' && quoted == '"' {
				i++
			} else if c == quoted {
				quoted = 0
			}
		case c == '"' || c == '\'':
			quoted = c
		case c == '#':
			comment = true
		case c == ']':
			return i
		}
	}
	return -1
}
