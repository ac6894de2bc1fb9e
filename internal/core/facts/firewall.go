package facts

import (
	"encoding/json"
	"fmt"
	"strings"
)

// Firewall is what the packet filter says of the port. It is read, never changed.
type Firewall struct {
	Known  bool   `json:"known"`
	Active bool   `json:"active"`           // there are rules for what comes in
	Blocks bool   `json:"blocks"`           // the port would be kept out, as far as the rules can be read
	Rule   string `json:"rule,omitempty"`   // what keeps it out
	Why    string `json:"why,omitempty"`    // why it is not known
	Source string `json:"source,omitempty"` // nftables, ufw
}

// UFW reads the output of "ufw status" for a TCP port.
func UFW(text string, port int) Firewall {
	f := Firewall{Known: true, Active: true, Source: "ufw", Blocks: true,
		Rule: "nothing allows it, and what is not allowed is denied"}
	for line := range strings.Lines(text) {
		w := strings.Fields(line)
		if len(w) < 3 {
			continue
		}
		to, proto, _ := strings.Cut(w[0], "/")
		if proto != "" && proto != "tcp" || !covers(to, port) {
			continue
		}
		verb := w[1]
		if verb == "(v6)" {
			verb = w[2]
		}
		switch verb {
		case "ALLOW", "LIMIT":
			return Firewall{Known: true, Active: true, Source: "ufw"}
		case "DENY", "REJECT":
			f.Rule = strings.TrimSpace(line)
			return f
		}
	}
	return f
}

// covers reports whether a port stands in a list such as "80,443" or "8000:9000".
func covers(list string, port int) bool {
	for _, part := range strings.Split(list, ",") {
		var from, to int
		if n, _ := fmt.Sscanf(part, "%d:%d", &from, &to); n == 2 && port >= from && port <= to {
			return true
		}
		if n, _ := fmt.Sscanf(part, "%d", &from); n == 1 && from == port && !strings.Contains(part, ":") {
			return true
		}
	}
	return false
}

// nftObject is one object of "nft -j list ruleset" (libnftables-json(5)).
type nftObject struct {
	Chain *struct {
		Family, Table, Name, Type, Hook, Policy string
	}
	Rule *struct {
		Family, Table, Chain string
		Expr                 []map[string]json.RawMessage
	}
}

// NFTables reads the output of "nft -j list ruleset" for a TCP port that comes
// in. It judges base chains of the input hook: their policy, and rules that look
// at nothing but the protocol and the port. A rule that asks for more is passed
// over, so the judgement may be too strict or too kind; a trial from another
// machine tells.
func NFTables(document []byte, port int) Firewall {
	var doc struct{ NFTables []nftObject }
	if err := json.Unmarshal(document, &doc); err != nil {
		return Firewall{Why: "its rules cannot be read: " + err.Error()}
	}
	f := Firewall{Known: true, Source: "nftables"}
	for _, o := range doc.NFTables {
		c := o.Chain
		if c == nil || c.Hook != "input" || c.Type != "filter" {
			continue
		}
		f.Active = true
		verdict, by := c.Policy, fmt.Sprintf("policy %s of chain %s %s %s", c.Policy, c.Family, c.Table, c.Name)
		for _, r := range doc.NFTables {
			if r.Rule == nil || r.Rule.Family != c.Family || r.Rule.Table != c.Table || r.Rule.Chain != c.Name {
				continue
			}
			if v, ok := ruleOn(r.Rule.Expr, port); ok {
				verdict, by = v, fmt.Sprintf("a rule of chain %s %s %s", c.Family, c.Table, c.Name)
				break
			}
		}
		if verdict == "drop" || verdict == "reject" {
			f.Blocks, f.Rule = true, by
		}
	}
	return f
}

// ruleOn gives the verdict of a rule on a port; ok is false where it asks for more
// than protocol and port, or for another port.
func ruleOn(expr []map[string]json.RawMessage, port int) (verdict string, ok bool) {
	for _, e := range expr {
		for kind, raw := range e {
			switch kind {
			case "accept", "drop", "reject":
				verdict = kind
			case "counter", "log", "comment":
			case "match":
				var m struct {
					Op   string
					Left struct {
						Payload struct{ Protocol, Field string }
						Meta    struct{ Key string }
					}
					Right json.RawMessage
				}
				if json.Unmarshal(raw, &m) != nil || m.Op != "==" {
					return "", false
				}
				right := string(m.Right)
				switch {
				case m.Left.Payload.Protocol == "tcp" && m.Left.Payload.Field == "dport":
					if !portIn(m.Right, port) {
						return "", false
					}
				case m.Left.Meta.Key == "l4proto" && (right == `"tcp"` || right == "6"):
				default:
					return "", false
				}
			default:
				return "", false
			}
		}
	}
	return verdict, verdict != ""
}

// portIn reports whether a port is the right side of a match: a number, a set or
// a range.
func portIn(raw json.RawMessage, port int) bool {
	var n int
	if json.Unmarshal(raw, &n) == nil {
		return n == port
	}
	var set struct {
		Set   []json.RawMessage
		Range []int
	}
	if json.Unmarshal(raw, &set) != nil {
		return false
	}
	if len(set.Range) == 2 {
		return port >= set.Range[0] && port <= set.Range[1]
	}
	for _, s := range set.Set {
		if portIn(s, port) {
			return true
		}
	}
	return false
}
