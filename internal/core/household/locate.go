package household

import (
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// places maps a key such as "shelf[1].folders[0]" to the offset of its value's
// line in the text.
type places struct {
	text []byte
	at   map[string]int
}

// locate notes where each key of a TOML text stands. A text that does not
// parse gives what was read until then.
func locate(text []byte) places {
	p := places{text, map[string]int{}}
	var parser unstable.Parser
	parser.Reset(text)
	table := ""
	count := map[string]int{}
	for parser.NextExpression() {
		e := parser.Expression()
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			name, at := keyText(e)
			table = name
			if e.Kind == unstable.ArrayTable {
				table = fmt.Sprintf("%s[%d]", name, count[name])
				count[name]++
			}
			p.at[table] = at
		case unstable.KeyValue:
			name, at := keyText(e)
			if table != "" {
				name = table + "." + name
			}
			p.at[name] = at
			if v := e.Value(); v.Kind == unstable.Array {
				i := 0
				for it := v.Children(); it.Next(); i++ {
					if n := it.Node(); n.Raw.Length > 0 {
						p.at[fmt.Sprintf("%s[%d]", name, i)] = int(n.Raw.Offset)
					}
				}
			}
		}
	}
	return p
}

func keyText(e *unstable.Node) (string, int) {
	var parts []string
	at := -1
	for it := e.Key(); it.Next(); {
		n := it.Node()
		if at < 0 {
			at = int(n.Raw.Offset)
		}
		parts = append(parts, string(n.Data))
	}
	return strings.Join(parts, "."), at
}

func (p places) has(key string) bool { _, ok := p.at[key]; return ok }

// position gives line and column, counted from 1, of a key or of the nearest
// thing around it that stands in the text.
func (p places) position(key string) (row, col int, ok bool) {
	for key != "" {
		if at, found := p.at[key]; found {
			before := string(p.text[:at])
			row = 1 + strings.Count(before, "\n")
			col = at - strings.LastIndexByte(before, '\n')
			return row, col, true
		}
		cut := strings.LastIndexAny(key, ".[")
		if cut < 0 {
			break
		}
		key = key[:cut]
	}
	return 0, 0, false
}
