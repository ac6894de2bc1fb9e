package test

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/problem"
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
		{well, "member edit bram --role adult"}, {failed, "member edit wren --role child"},
		{use, "member remove nobody --yes"},
		{refused, "member remove bram"}, {well, "member remove bram --yes"}, {use, "member password nobody --generate"},
		{well, "shelf list"}, {well, "shelf show"}, {well, "shelf show films"}, {use, "shelf show nowhere"},
		{well, "shelf show --problems"},
		{well, "shelf scan films"}, {use, "shelf scan nowhere"}, {well, "shelf find paper"}, {use, "shelf find"},
		{use, "shelf match zzz"}, {use, "shelf add x"}, {use, "shelf add x --kind books --folder /tmp"},
		{use, "shelf add x --kind films --folder /etc/passwd"}, {refused, "shelf remove series"},
		{use, "shelf remove nowhere --yes"},
		{well, "usage now"}, {well, "usage history"}, {use, "usage history --member nobody"},
		{use, "usage history --since soon"},
		{well, "usage top"}, {use, "usage top what"}, {well, "usage lately"}, {well, "intake list"},
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

// TestEveryDocumentIsOne asks each command that takes --json for its document.
func TestEveryDocumentIsOne(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	docs := func(lines ...string) {
		t.Helper()
		for _, line := range lines {
			out, errs, code := m.run("", append(strings.Fields(line), "--json")...)
			var doc any
			if err := json.Unmarshal([]byte(out), &doc); err != nil || code != 0 && code != problem.ExitFound {
				t.Errorf("cozyshelf %s --json: code %d, %v\n%s\n%s", line, code, err, out, errs)
			}
		}
	}
	docs("check", "status", "ledger", "ledger verify", "access", "deploy --yes")
	m.add(demo.Person{Name: "wren", Role: allowance.Admin}, demo.Person{Name: "bram", Role: allowance.Child})
	docs("status", "member list", "member edit bram --away yes", "member edit bram --role adult",
		"member password bram --generate",
		"member remove bram --yes", "shelf list", "shelf show", "shelf show films", "shelf show --problems",
		"shelf find paper", "shelf scan films",
		"usage now", "usage history", "usage top", "usage lately", "intake list", "backup --to b.tar.zst",
		"backup list",
		"backup verify b.tar.zst", "restore b.tar.zst --yes", "access films --mend", "access --mend --yes",
		"backup --every day --yes",
		"shelf remove series --yes", "stop", "start", "restart", "upgrade --yes", "ledger --steps", "retire --yes")
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
