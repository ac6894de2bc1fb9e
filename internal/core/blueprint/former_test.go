package blueprint

import (
	"encoding/json"
	"strings"
	"testing"
)

// TestContainersOfOtherVersionsAreKnown reads labels that a program with more or
// fewer fields has written.
func TestContainersOfOtherVersionsAreKnown(t *testing.T) {
	c := Draw(mill(t), site).Server()
	var fields map[string]any
	if err := json.Unmarshal([]byte(c.Labels()[LabelContainer]), &fields); err != nil {
		t.Fatal(err)
	}
	delete(fields, "start")
	fields["of_tomorrow"] = 7
	b, err := json.Marshal(fields)
	if err != nil {
		t.Fatal(err)
	}
	labels := map[string]string{LabelHousehold: c.Household, LabelContainer: string(b), LabelDigest: digestOf(b)}
	got, ok := FromLabels(labels)
	if !ok || got.Digest() != labels[LabelDigest] || got.Digest() == c.Digest() || got.Port() != c.Port() {
		t.Errorf("got %+v, %v", got, ok)
	}
	// Made again from what was read, it has the same labels.
	if again := got.Labels(); again[LabelContainer] != labels[LabelContainer] ||
		again[LabelDigest] != labels[LabelDigest] {
		t.Errorf("made again: %v", again)
	}
	if once := got.Once([]string{"probe"}); once.Digest() == got.Digest() {
		t.Error("a throw-away container passes for the container itself")
	}
	labels[LabelContainer] += " "
	if _, ok := FromLabels(labels); ok {
		t.Error("labels that do not agree were taken")
	}
}

func TestAnotherProgramMeetsTheStoreAfterABackup(t *testing.T) {
	want := Draw(mill(t), site)
	want.Backup = "/srv/before.tar.zst"
	old := want.Server()
	old.Image.Program = "sha256:00"
	host := Host{StateExists: true, SettingsExists: true, StoreExists: true}
	order := func(have Observed, host Host) string {
		var out []string
		for _, c := range Compare(want, have, host) {
			switch c.Action {
			case StopOld, TakeBackup, PutStore, Start:
				out = append(out, string(c.Action))
			}
		}
		return strings.Join(out, " ")
	}
	images, nets := []string{want.Server().Image.Program}, []string{want.Server().Network}
	running := Observed{Images: images, Networks: nets,
		Containers: []Container{{ID: "1", Digest: old.Digest(), Service: old, Key: ServerKey, Running: true}}}
	met := Observed{Images: images, Networks: nets,
		Containers: []Container{running.Containers[0],
			{ID: "2", Digest: want.Server().Digest(), Service: want.Server(), Key: ServerKey, Running: true}}}
	if got := order(running, host); got != "stop-old take-backup start" {
		t.Errorf("an upgrade: %s", got)
	}
	host.BackupExists = true
	if got := order(running, host); got != "stop-old start" {
		t.Errorf("the backup is there: %s", got)
	}
	host.BackupExists = false
	if got := order(met, host); got != "stop-old" {
		t.Errorf("the new program has met the store: %s", got)
	}
	want.Store = "/srv/former.tar.zst"
	if got := order(running, host); got != "stop-old take-backup put-store start" {
		t.Errorf("with another store: %s", got)
	}
	want.Store, old.Image = "", want.Server().Image
	running.Containers[0].Service, running.Containers[0].Digest = old, "other"
	if got := order(running, host); got != "stop-old start" {
		t.Errorf("the same program: %s", got)
	}
}
