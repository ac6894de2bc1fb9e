package test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/testbuild"
)

// TestExitCodesCommandByCommand goes through the life of a household: what each command ends with
// when all is well, when it is used wrongly, when it names what is not there, when nobody agreed,
// and when something is amiss.
func TestExitCodesCommandByCommand(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	const well, failed, use, found, refused = problem.ExitDone, problem.ExitFailed, problem.ExitUsage,
		problem.ExitFound,
		problem.ExitRefused
	type call struct {
		code int
		line string
	}
	try := func(stage string, calls []call) {
		t.Helper()
		for _, c := range calls {
			args := strings.Fields(c.line)
			out, errs, code := m.run("", args...)
			if code != c.code {
				t.Errorf("%s: cozyshelf %s ends with %d, want %d\n%s%s", stage, c.line, code, c.code, out, errs)
			}
			// An error tells what to do next, and as a document it is one.
			if c.code == use || c.code == failed || c.code == refused {
				if !strings.Contains(errs, "problem:") || !strings.Contains(errs, "fix:") {
					t.Errorf("%s: cozyshelf %s says\n%s", stage, c.line, errs)
				}
			}
		}
	}
	try("before it is deployed", []call{
		{found, "status"}, {failed, "stop"}, {failed, "start"}, {failed, "restart"}, {failed, "logs"},
		{failed, "member list"},
		{failed, "usage now"}, {well, "ledger"}, {well, "ledger verify"}, {use, "undo 99"}, {well, "retire --yes"},
		{failed, "rollback --yes"}, {refused, "deploy"}, {well, "deploy --dry-run"}, {use, "nothing"},
		{use, "deploy now"},
		{use, "member" + " nobody"}, {use, "new --name x"},
	})
	m.must("deploy", "--yes")
	m.add(demo.Person{Name: "wren", Role: allowance.Admin}, demo.Person{Name: "bram", Role: allowance.Child})
	try("deployed", []call{
		{well, "status"}, {well, "status --json"}, {use, "status --pause 1s"}, {well, "logs --tail 1"},
		{use, "logs --level loud"},
		{use, "logs --since soon"}, {use, "logs --tail x"}, {well, "start"}, {use, "stop --for 1h"}, {well, "check"},
		{found, "access"}, {use, "access nowhere"}, {well, "access films"}, {use, "access --sample 3"},
		{well, "access films --mend"},
		{use, "access films --mend nonsense"}, {refused, "access --mend"}, {well, "member list"}, {use, "member add"},
		{use, "member add ilse"}, {use, "member add ilse --role boss"}, {use, "member edit nobody --away yes"},
		{use, "member edit bram"},
		{well, "member edit bram --role adult"}, {well, "member show bram"}, {use, "member show nobody"},
		{use, "member edit bram --hours never"}, {use, "member edit bram --minutes 0"}, {use, "member edit bram --shelves x"},
		{use, "member edit bram --until soon"}, {use, "member edit bram --bitrate 3"}, {use, "member devices bram --end 99"},
		{use, "member devices --end 1"}, {well, "member devices"},
		{well, "member invite piet --role guest --for 2h"}, {well, "member invite"},
		{failed, "member invite bram --role adult"},
		{use, "member invite x"}, {use, "member invite x --role boss"}, {use, "member invite x --role adult --for 1s"},
		{well, "member invite --cancel piet"}, {use, "member invite --cancel piet"},
		{failed, "member edit wren --role child"},
		{use, "member remove nobody --yes"},
		{refused, "member remove bram"}, {well, "member remove bram --yes"}, {use, "member password nobody --generate"},
		{well, "prepare list"}, {use, "prepare add zzz"}, {use, "prepare add paper --height 7"},
		{use, "prepare add paper --for nobody"}, {use, "prepare cancel 99"}, {use, "prepare cancel x"},
		{use, "remote proxy nginx"}, {use, "remote proxy iis"}, {well, "remote status"}, {found, "remote test"},
		{use, "remote test --connect x"}, {use, "remote status --from 300.1.1.1"}, {failed, "remote test --ca none.pem"},
		{use, "capacity --last"}, {use, "capacity --quick --last"},
		{well, "shelf list"}, {well, "shelf show"}, {well, "shelf show films"}, {use, "shelf show nowhere"},
		{well, "shelf show --problems"},
		{well, "shelf scan films"}, {use, "shelf scan nowhere"}, {well, "shelf find paper"}, {use, "shelf find"},
		{use, "shelf match zzz"}, {use, "shelf add x"}, {use, "shelf add x --kind books --folder /tmp"},
		{use, "shelf add x --kind films --folder /etc/passwd"}, {refused, "shelf remove series"},
		{use, "shelf remove nowhere --yes"},
		{well, "usage now"}, {well, "usage history"}, {use, "usage history --member nobody"},
		{use, "usage history --since soon"},
		{well, "usage history --where away --finished no --delivery repacked --until 2026-01-01"},
		{use, "usage history --where outside"}, {use, "usage history --finished perhaps"}, {use, "usage history --after x"},
		{use, "usage history --delivery copied"}, {use, "usage history --after 99999"},
		{well, "usage chart --by heat"}, {use, "usage chart --by year"}, {use, "usage chart --of joy"},
		{use, "usage chart --split title"}, {use, "usage chart --by heat --split member"},
		{well, "usage export"}, {use, "usage export --format xml"}, {well, "usage export --to plays.csv"},
		{failed, "usage export --to plays.csv"}, {failed, "usage export --to nowhere/plays.csv"},
		{use, "usage stop"}, {use, "usage stop x"}, {use, "usage stop 99"}, {well, "usage top"},
		{well, "usage top devices --since 1h --by plays"}, {use, "usage top --by size"}, {use, "usage top what"},
		{well, "usage verify"}, {well, "usage verify --rebuild"}, {use, "usage verify all"}, {well,
			"usage top parts --member wren"},
		{well, "usage chart --of library --split kind"}, {use, "usage chart --of library --by hour"},
		{use, "usage chart --of library --member wren"}, {well, "usage history --kind films"},
		{use, "usage history --kind cakes"},
		{well, "usage lately"}, {well, "intake list"},
		{use, "intake clear none --yes"},
		{use, "intake fetch https://example.net/x.mp4"}, {well, "backup list"}, {well, "backup --to b.tar.zst"},
		{use, "backup --to " + m.path("nowhere/stick")}, {failed, "backup --to b.tar.zst"},
		{use, "backup --every day --at 25:00"},
		{use, "backup --keep 3"}, {use, "backup --every day --keep 0"}, {refused, "backup --every day"},
		{well, "backup verify b.tar.zst"},
		{failed, "backup verify none.tar.zst"}, {failed, "restore none.tar.zst"}, {refused, "restore b.tar.zst"},
		{refused, "tidy films"},
		{use, "tidy nowhere"}, {well, "upgrade --yes"}, {failed, "rollback --yes"}, {use, "undo x"}, {use, "undo 9999"},
		{well, "ledger --since 1d"}, {use, "ledger --since soon"}, {refused, "retire"},
	})
	try("stopped", []call{{well, "stop"}, {found, "status"}, {found, "status --json"}, {well, "stop"},
		{failed, "member list"}, {well, "start"},
		{well, "status"}, {well, "restart"}, {well, "retire --yes"}, {found, "status"}})
}

// words parts a line; _ stands for a blank within a word.
func words(line string) []string {
	out := strings.Fields(line)
	for i := range out {
		out[i] = strings.ReplaceAll(out[i], "_", " ")
	}
	return out
}

// TestEveryDocumentIsOne asks each command that takes --json for its document. Whatever a command
// writes in any test is held against its schema; here all of them have to.
func TestEveryDocumentIsOne(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	missing := strings.Split(strings.TrimSpace(m.must("schema")), "\n")
	docs := func(lines ...string) {
		t.Helper()
		for _, line := range lines {
			out, errs, code := m.run("", append(words(line), "--json")...)
			if code != 0 && code != problem.ExitFound || len(out) < 2 {
				t.Errorf("cozyshelf %s --json: code %d\n%s\n%s", line, code, out, errs)
			}
			missing = slices.DeleteFunc(missing, func(name string) bool {
				return line == name || strings.HasPrefix(line, name+" ")
			})
		}
	}
	docs("check", "check --facts", "status", "ledger", "ledger --steps", "ledger verify", "access", "deploy --yes")
	m.add(demo.Person{Name: "wren", Role: allowance.Admin}, demo.Person{Name: "bram", Role: allowance.Child})
	docs("member add ilse --role adult --generate", "status", "member list", "member edit bram --away yes",
		"member show bram", "member devices", "member invite piet --role guest", "member invite",
		"member edit bram --minutes 60 --hours mon-fri_10:00-11:00 --shelves films --until 2100-01-01 --height-away 720 --bitrate-away 4M",
		"member edit bram --role adult", "member password bram --generate", "member remove bram --yes")
	m.edit("\n[storage]",
		fmt.Sprintf("\n[remote]\naddress = \"https://shelf.example.net\"\n\n[remote.certificate]\nfrom = \"home\"\n"+
			"port = %d\n\n[remote.name]\nlearn = \"interface\"\ninterface = \"lo\"\n\n[storage]", testbuild.Port(t)))
	m.section(fmt.Sprintf("[[notice]]\nname = \"bell\"\nto = \"program\"\nprogram = %q\n", m.path("bell")))
	if err := os.WriteFile(m.path("bell"), []byte("#!/bin/sh\nexec cat >/dev/null\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	docs("remote proxy caddy", "remote status --connect 127.26.20.1", "remote test --connect 127.26.20.1", "deploy --yes",
		"remote certificate", "remote name", "remote close --now", "remote open", "key add automation --may metrics",
		"key list",
		"key remove automation", "notice list", "notice test bell")
	w := m.viewer("wren")
	film, err := w.Find(t.Context(), "films", "The Paper Lighthouse", "")
	if err != nil {
		t.Fatal(err)
	}
	watching := make(chan error)
	go func() { watching <- w.Watch(t.Context(), film, 4) }()
	var now []struct{ ID int64 }
	within(t, 3*time.Second, "a stream", func() bool {
		m.document(&now, "usage", "now")
		return len(now) == 1
	})
	docs("status", "usage now", "deploy --dry-run")
	if err := <-watching; err != nil {
		t.Error(err)
	}
	table, err := csv.NewReader(strings.NewReader(m.must("usage", "export"))).ReadAll()
	if err != nil || len(table) < 2 || !slices.Equal(table[0], usage.Columns) || table[1][5] != "The Paper Lighthouse" {
		t.Errorf("the export as CSV: %v %v", table, err)
	}
	lines := strings.Split(strings.TrimSpace(m.must("usage", "export", "--format", "jsonl")), "\n")
	if p := (usage.Play{}); len(lines) != len(table)-1 || json.Unmarshal([]byte(lines[0]), &p) != nil ||
		p.Member != "wren" {
		t.Errorf("the export as JSON lines: %v", lines)
	}
	// Another one is ended with a word, which its device is told.
	go func() { watching <- w.Watch(t.Context(), film, 60) }()
	within(t, 3*time.Second, "another stream", func() bool {
		m.document(&now, "usage", "now")
		return len(now) == 1
	})
	docs(fmt.Sprintf("usage stop %d --say bedtime", now[0].ID))
	select {
	case err := <-watching:
		if err == nil || !strings.Contains(err.Error(), "403") {
			t.Errorf("a stream that was ended: %v", err)
		}
	case <-time.After(30 * time.Second):
		t.Error("a stream that was ended goes on")
	}
	if err := os.WriteFile(m.path("rain.avi"), noise(1<<12), 0o644); err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(http.FileServer(http.Dir(m.dir)))
	defer srv.Close()
	docs("intake copy " + m.path("rain.avi") + " --onto films --yes")
	docs("undo " + m.entry("intake") + " --yes")
	docs("intake fetch " + srv.URL + "/rain.avi --onto films --private")
	var held []struct{ ID string }
	m.document(&held, "intake", "list")
	for _, j := range held {
		docs("intake clear " + j.ID + " --yes")
	}
	docs("shelf list", "shelf show", "shelf show films", "shelf show --problems", "shelf find paper",
		"shelf scan films", "shelf match Lighthouse", "usage history", "usage chart --split member", "usage chart --by heat",
		"usage top", "usage top titles --since 7d", "usage report", "usage forecast", "usage verify",
		"usage lately", "intake list", "tidy --dry-run", "logs --tail 20", "backup --to b.tar.zst", "backup list",
		"backup verify b.tar.zst", "restore b.tar.zst --yes", "access films --mend", "access --mend --yes")
	docs("undo " + m.entry("mend") + " --yes")
	docs("prepare add Lighthouse --height 240", "prepare list", "prepare cancel 1")
	measured := `{"measured_at":"2026-11-29T20:00:00Z","processors_there":2,"ffmpeg":"5.1","runs":[]}`
	if err := os.WriteFile(m.path("state/capacity.json"), []byte(measured), 0o644); err != nil {
		t.Fatal(err)
	}
	docs("capacity --last", "stop", "start", "restart")
	m.program = testbuild.Variant{Version: "2.0.0", Tags: "crashpoint", Newer: true}.Program(t)
	docs("upgrade --yes", "rollback --yes")
	m.program = ""
	if err := os.Mkdir(m.path("more"), 0o755); err != nil {
		t.Fatal(err)
	}
	docs("backup --every day --yes", "shelf remove series --yes", "shelf add more --kind films --folder "+
		m.path("more")+" --yes", "ledger --steps", "status", "retire --yes")
	if len(missing) > 0 {
		t.Errorf("not asked for its document: %s", strings.Join(missing, ", "))
	}
	// An error is a document as well.
	_, errs, code := m.run("", "shelf", "show", "nowhere", "--json")
	var p problem.Problem
	if err := json.Unmarshal([]byte(errs), &p); code != problem.ExitFailed && code != problem.ExitUsage ||
		err != nil || p.What == "" || p.Fix == "" {
		t.Errorf("an error: code %d, %v\n%s", code, err, errs)
	}
	if _, err := os.Stat(m.path("b.tar.zst")); err != nil {
		t.Error(err)
	}
}
