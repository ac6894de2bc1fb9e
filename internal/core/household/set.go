package household

import (
	"bytes"
	"errors"
)

// Set writes the value of a key into the text of a household file, in place of the
// one that is there, and leaves all else as it is: comments, order, blank lines.
// A section that is missing is added at the end. value is written as TOML; texts
// are to be given through Quote. The outcome is checked as a whole.
func Set(name string, text []byte, section, key, value string) ([]byte, error) {
	if _, err := Decode(name, text); err != nil {
		return nil, err
	}
	at := locate(text)
	var out []byte
	switch start, there := at.at[section+"."+key]; {
	case there:
		from := bytes.IndexByte(text[start:], '=')
		if from < 0 {
			return nil, errors.New("the value of " + section + "." + key + " cannot be found in the text")
		}
		from += start + 1
		to := valueEnd(text, from)
		out = bytes.Join([][]byte{text[:from], text[to:]}, []byte(" "+value))
	default:
		line := key + " = " + value + "\n"
		sec, ok := at.at[section]
		if !ok {
			out = bytes.TrimRight(text, "\n")
			out = append(bytes.Clone(out), []byte("\n\n["+section+"]\n"+line)...)
			break
		}
		// After the last line of the section that says something.
		stop := len(text)
		for _, h := range headers(text) {
			if h.at > sec {
				stop = h.at
				break
			}
		}
		stop = end(text, stop)
		if stop > 0 && text[stop-1] != '\n' {
			line = "\n" + line
		}
		out = bytes.Join([][]byte{text[:stop], text[stop:]}, []byte(line))
	}
	if _, err := Decode(name, out); err != nil {
		return nil, err
	}
	return out, nil
}

// Quote writes a text as TOML.
func Quote(s string) string { return quote(s) }

// valueEnd finds where a value on one line ends: before a comment or the end of
// the line, with the blanks in front of these.
func valueEnd(text []byte, from int) int {
	quoted := byte(0)
	i := from
	for ; i < len(text) && text[i] != '\n'; i++ {
		c := text[i]
		if quoted != 0 {
			if c == '\\' && quoted == '"' {
				i++
			} else if c == quoted {
				quoted = 0
			}
			continue
		}
		if c == '"' || c == '\'' {
			quoted = c
		}
		if c == '#' {
			break
		}
	}
	i = min(i, len(text))
	for i > from && (text[i-1] == ' ' || text[i-1] == '\t' || text[i-1] == '\r') {
		i--
	}
	return i
}

// RemoveSection takes a section out of the text of a household file, and leaves all
// else as it is.
func RemoveSection(name string, text []byte, section string) ([]byte, error) {
	list := headers(text)
	for i, h := range list {
		if h.name != section {
			continue
		}
		stop := len(text)
		if i+1 < len(list) {
			stop = list[i+1].at
		}
		start := end(text, h.at)
		if start < h.at && h.at-start > 1 {
			start = h.at // what stands above it says something
		}
		out := bytes.Join([][]byte{text[:start], text[end(text, stop):]}, nil)
		_, err := Decode(name, out)
		return out, err
	}
	return text, nil
}
