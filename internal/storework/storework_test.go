package storework

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/store"
	"cozyshelf/internal/testbuild"
)

func TestMain(m *testing.M) {
	Test()
	os.Exit(m.Run())
}

// state is a folder of an account with a store in it.
func state(t *testing.T) (*boundary.Dir, string, *boundary.Owner) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("needs root, to become another account")
	}
	dir := filepath.Join(t.TempDir(), "state")
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	st, err := store.Open(context.Background(), filepath.Join(dir, "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := st.AddMember(context.Background(), store.Member{Name: "wren", Role: "admin", Password: "x"},
		time.Now()); err != nil {
		t.Fatal(err)
	}
	st.Close()
	err = filepath.WalkDir(dir, func(p string, _ fs.DirEntry, err error) error {
		if err == nil {
			err = os.Chown(p, 4321, 4321)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	d, err := boundary.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d, dir, &boundary.Owner{UID: 4321, GID: 4321}
}

func TestAStoreIsLookedIntoByItsAccount(t *testing.T) {
	d, dir, owner := state(t)
	w := Work{Dir: d, Name: "store.db", Owner: owner}
	for _, whole := range []bool{false, true} {
		if f, err := w.Inspect(context.Background(), whole); err != nil || f.Members != 1 ||
			f.Format != store.Newest() {
			t.Errorf("got %+v, %v", f, err)
		}
	}
	if s, err := w.LookSince(context.Background(), time.Now().Add(-time.Hour)); err != nil || len(s.Members) != 1 {
		t.Errorf("got %+v, %v", s, err)
	}
	if err := w.Settle(context.Background()); err != nil {
		t.Error(err)
	}
	// Whatever SQLite made beside it is the account's, not root's.
	list, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range list {
		if st, err := e.Info(); err != nil || st.Sys().(*syscall.Stat_t).Uid != 4321 {
			t.Errorf("%s is not the account's: %v", e.Name(), err)
		}
	}
}

func TestAStoreLeadsNowhereElse(t *testing.T) {
	d, dir, owner := state(t)
	secret := filepath.Join(filepath.Dir(dir), "secret.db")
	st, err := store.Open(context.Background(), secret)
	if err != nil {
		t.Fatal(err)
	}
	st.Close()
	before, err := os.Stat(secret)
	if err != nil {
		t.Fatal(err)
	}
	at := filepath.Join(dir, "store.db")
	for name, put := range map[string]func() error{
		"a link":  func() error { return os.Symlink(secret, at) },
		"a pipe":  func() error { return syscall.Mkfifo(at, 0o666) },
		"rubbish": func() error { return os.WriteFile(at, []byte("SQLite format 3\x00 and no more"), 0o644) },
		"nothing": func() error { return nil },
	} {
		if err := os.RemoveAll(at); err != nil {
			t.Fatal(err)
		}
		if err := put(); err != nil {
			t.Fatal(err)
		}
		_, err := Work{Dir: d, Name: "store.db", Owner: owner}.Inspect(context.Background(), true)
		if err == nil {
			t.Errorf("%s was taken", name)
		}
		if name == "rubbish" && !errors.Is(err, store.ErrDamaged) || name == "nothing" &&
			!errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if after, err := os.Stat(secret); err != nil || !after.ModTime().Equal(before.ModTime()) {
		t.Errorf("the store outside was touched: %v", err)
	}
}

// A store whose tables are views that never end keeps nobody for ever.
func TestAStoreWithoutAnEndIsGivenUp(t *testing.T) {
	d, dir, owner := state(t)
	if _, err := exec.LookPath("sqlite3"); err != nil {
		testbuild.Missing(t, "sqlite3")
	}
	at := filepath.Join(dir, "store.db")
	if err := os.Remove(at); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("sqlite3", at, `CREATE TABLE goose_db_version (version_id INTEGER, is_applied INTEGER);
		INSERT INTO goose_db_version VALUES (1, 1);
		CREATE VIEW members AS WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c) SELECT x FROM c;
		CREATE VIEW titles AS SELECT * FROM members; CREATE TABLE plays (seen INTEGER);`).CombinedOutput()
	if err != nil {
		t.Fatal(err, string(out))
	}
	if err := os.Chown(at, owner.UID, owner.GID); err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	if _, err := (Work{Dir: d, Name: "store.db", Owner: owner}).Inspect(ctx, false); !errors.Is(err,
		context.DeadlineExceeded) {
		t.Errorf("got %v", err)
	}
}

// TestPipesBesideAStore has pipes where SQLite would open its logs: they would keep it for ever.
func TestPipesBesideAStore(t *testing.T) {
	for _, end := range []string{"-wal", "-shm", "-journal"} {
		d, dir, owner := state(t)
		pipe := filepath.Join(dir, "store.db"+end)
		_ = os.Remove(pipe)
		if err := syscall.Mkfifo(pipe, 0o666); err != nil {
			t.Fatal(err)
		}
		w := Work{Dir: d, Name: "store.db", Owner: owner}
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		if err := w.Settle(ctx); !errors.Is(err, store.ErrDamaged) {
			t.Errorf("settling with a pipe at %s: %v", end, err)
		}
		if _, err := w.Inspect(ctx, false); !errors.Is(err, store.ErrDamaged) {
			t.Errorf("looking in with a pipe at %s: %v", end, err)
		}
		cancel()
	}
}
