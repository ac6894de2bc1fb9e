package facts

import "testing"

func TestPacketFiltersAreRead(t *testing.T) {
	chain := func(policy string) string {
		return `{"chain":{"family":"inet","table":"filter","name":"input","type":"filter","hook":"input","policy":"` + policy + `"}}`
	}
	rule := func(expr string) string {
		return `,{"rule":{"family":"inet","table":"filter","chain":"input","expr":[` + expr + `]}}`
	}
	match := func(right string) string {
		return `{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":` + right + `}}`
	}
	doc := func(s string) []byte { return []byte(`{"nftables":[{"metainfo":{"version":"1.0.6"}},` + s + `]}`) }
	for name, c := range map[string]struct {
		doc            []byte
		active, blocks bool
	}{
		"nothing":             {[]byte(`{"nftables":[]}`), false, false},
		"open":                {doc(chain("accept")), true, false},
		"shut":                {doc(chain("drop")), true, true},
		"shut, the port open": {doc(chain("drop") + rule(match("26990")+`,{"accept":null}`)), true, false},
		"shut, a set open":    {doc(chain("drop") + rule(match(`{"set":[22,26990]}`)+`,{"counter":{}},{"accept":null}`)), true, false},
		"shut, a range open": {doc(chain("drop") + rule(match(`{"range":[26000,27000]}`)+`,{"accept":null}`)), true,
			false},
		"shut, another open":    {doc(chain("drop") + rule(match("22")+`,{"accept":null}`)), true, true},
		"open, the port shut":   {doc(chain("accept") + rule(match("26990")+`,{"drop":null}`)), true, true},
		"a rule that asks more": {doc(chain("accept") + rule(`{"match":{"op":"==","left":{"meta":{"key":"iifname"}},"right":"eth9"}},{"drop":null}`)), true, false},
	} {
		if f := NFTables(c.doc, 26990); !f.Known || f.Active != c.active || f.Blocks != c.blocks || f.Blocks &&
			f.Rule == "" {
			t.Errorf("%s: got %+v", name, f)
		}
	}
	if f := NFTables([]byte("no"), 1); f.Known || f.Why == "" {
		t.Errorf("no document: got %+v", f)
	}
	head := "Status: active\n\nTo                         Action      From\n--                         ------      " +
		"----\n"
	for rules, blocks := range map[string]bool{
		"": true, "22/tcp ALLOW Anywhere\n": true, "26990/tcp                  ALLOW       192.0.2.0/24\n": false,
		"26990 LIMIT Anywhere\n":           false,
		"26000:27000/tcp ALLOW Anywhere\n": false, "26990/udp ALLOW Anywhere\n": true,
		"26990/tcp DENY Anywhere\n26990/tcp ALLOW Anywhere\n": true,
	} {
		if f := UFW(head+rules, 26990); f.Blocks != blocks {
			t.Errorf("%q: got %+v, want blocks %v", rules, f, blocks)
		}
	}
}

func FuzzNFTables(f *testing.F) {
	f.Add([]byte(`{"nftables":[{"chain":{"family":"inet","table":"f","name":"input","type":"filter","hook":"input","policy":"drop"}},{"rule":{"family":"inet","table":"f","chain":"input","expr":[{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":{"set":[1,{"range":[2,3]}]}}},{"accept":null}]}}]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if got := NFTables(b, 26990); got.Blocks && got.Rule == "" {
			t.Errorf("got %+v", got)
		}
	})
}
