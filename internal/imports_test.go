package internal

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// valuePackages are the packages from outside that the core may use: they
// compute, and do nothing else.
var valuePackages = []string{"github.com/pelletier/go-toml/v2", "github.com/dustin/go-humanize", "golang.org/x/text",
	"github.com/pquerna/otp"}

// effects are packages of the standard library that the core may not use: they
// print, parse flags, open sockets, start programs or touch files.
var effects = []string{"flag", "log", "log/slog", "net", "net/http", "os", "os/exec", "os/user", "os/signal",
	"database/sql", "embed", "syscall", "unsafe", "plugin", "testing"}

// imports gives the imports of every package below this folder, tests left out.
func imports(t *testing.T) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	err := filepath.WalkDir(".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), p, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		room := filepath.ToSlash(filepath.Dir(p))
		for _, i := range f.Imports {
			path, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			if !slices.Contains(out[room], path) {
				out[room] = append(out[room], path)
			}
		}
		return nil
	})
	if err != nil || len(out) < 20 {
		t.Fatalf("%d rooms, %v", len(out), err)
	}
	return out
}

func standard(path string) bool { return !strings.Contains(strings.Split(path, "/")[0], ".") }

func TestTheCoreOnlyComputes(t *testing.T) {
	for room, list := range imports(t) {
		if !strings.HasPrefix(room, "core/") {
			continue
		}
		for _, path := range list {
			ours, isOurs := strings.CutPrefix(path, "cozyshelf/internal/")
			switch {
			case isOurs:
				if !strings.HasPrefix(ours, "core/") && ours != "problem" {
					t.Errorf("%s imports %s: the core knows the core only", room, path)
				}
			case standard(path):
				if slices.Contains(effects, path) {
					t.Errorf("%s imports %s: the core has no effects", room, path)
				}
			case !slices.ContainsFunc(valuePackages,
				func(v string) bool { return path == v || strings.HasPrefix(path, v+"/") }):
				t.Errorf("%s imports %s, which is not on the list of value packages", room, path)
			}
		}
	}
}

func TestRoomsKeepToTheirPlace(t *testing.T) {
	forbidden := map[string][]string{
		// Interface code belongs to the rooms that have people before them.
		"github.com/spf13/cobra":            {"cli"},
		"charm.land/lipgloss/v2":            {"cli/show"},
		"database/sql":                      {"store"},
		"modernc.org/sqlite":                {"store"},
		"github.com/moby/moby/client":       {"engine/docker"},
		"html/template":                     {"server/web", "cli/page"},
		"github.com/caddyserver/certmagic":  {"certificate"},
		"cozyshelf/internal/cli":            {},
		"cozyshelf/internal/server":         {"cli"},
		"cozyshelf/internal/server/live":    {"server", "server/api", "server/web", "server/admin"},
		"cozyshelf/internal/server/api":     {"server"},
		"cozyshelf/internal/server/web":     {"server"},
		"cozyshelf/internal/server/admin":   {"server"},
		"cozyshelf/internal/engine/docker":  {"operate"},
		"cozyshelf/internal/engine/process": {"operate", "cli"},
		"cozyshelf/internal/testbuild":      {},
		"github.com/fxamacker/cbor/v2":      {"passkey/passkeytest"},
		"cozyshelf/internal/passkey":        {"server/live"},
		"github.com/wneessen/go-mail":       {"notify"},
		"github.com/eclipse/paho.golang":    {"notify"},
		"cozyshelf/internal/demo":           {"cli"},
	}
	all := imports(t)
	for path, may := range forbidden {
		for room, list := range all {
			if slices.Contains(list, path) && !slices.Contains(may, room) {
				t.Errorf("%s imports %s, which is for %v", room, path, may)
			}
		}
	}
	// The documents of the control socket are types of their own, not rows of the store.
	if slices.Contains(all["control"], "cozyshelf/internal/store") {
		t.Error("control imports internal/store, so that rows can get into documents")
	}
	// The engines do not know each other or who uses them.
	for _, room := range []string{"engine/docker", "engine/process"} {
		for _, path := range all[room] {
			if ours, ok := strings.CutPrefix(path, "cozyshelf/internal/"); ok && !strings.HasPrefix(ours, "core/") &&
				ours != "engine" && ours != "pack" && ours != "atomicfile" && ours != "boundary" {
				t.Errorf("%s imports %s", room, path)
			}
		}
	}
}

func TestEveryRoomSaysWhatItIsFor(t *testing.T) {
	for room := range imports(t) {
		files, err := filepath.Glob(filepath.Join(room, "*.go"))
		if err != nil {
			t.Fatal(err)
		}
		said := false
		for _, p := range files {
			f, err := parser.ParseFile(token.NewFileSet(), p, nil, parser.PackageClauseOnly|parser.ParseComments)
			if err != nil {
				t.Fatal(err)
			}
			said = said || f.Doc != nil && len(f.Doc.Text()) > 60
		}
		if !said {
			t.Errorf("%s has no package comment that says what it is for", room)
		}
	}
}
