package intake

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"math"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/core/tidy"

	"golang.org/x/sys/unix"
)

// Found is what a look at sources says: what would come in, and what would not.
type Found struct {
	Files []File      `json:"files"`
	There []There     `json:"there"` // what is on the shelf already, the same bytes
	Left  []tidy.Left `json:"left"`  // what is not taken, and why
	Size  int64       `json:"size"`  // of what would come in, in bytes
	Free  int64       `json:"free"`  // where it would go
}

// There is a file that is on the shelf already.
type There struct {
	Source string `json:"source"`
	Is     string `json:"is"` // below the shelf's folder
}

// Look looks at sources, which are files and folders, and works out what would be copied
// onto a folder of a shelf, and under which names. With broken, files whose headers cannot
// be read are taken too.
func Look(ctx context.Context, kind household.Kind, folder string, sources []string, broken bool) (Found, error) {
	out := Found{Files: []File{}, There: []There{}, Left: []tidy.Left{}}
	var err error
	if out.Free, err = Free(folder); err != nil {
		return out, err
	}
	shelf, err := sizes(folder)
	if err != nil {
		return out, err
	}
	on, err := boundary.Open(folder)
	if err != nil {
		return out, err
	}
	defer on.Close()
	l := looker{out: &out, kind: kind, broken: broken, on: on, sizes: shelf, wanted: map[string]string{}}
	for _, src := range sources {
		src, err := filepath.Abs(src)
		if err != nil {
			return out, err
		}
		base, list, err := under(kind, src)
		if err != nil {
			return out, err
		}
		if household.Within(folder, src) || folder == src || household.Within(src, folder) {
			out.Left = append(out.Left, tidy.Left{Path: src,
				Why: "it lies in the shelf's own folder, or the other way round"})
			continue
		}
		to := names(kind, list)
		for _, rel := range list {
			l.one(ctx, filepath.Join(base, rel), rel, to[rel])
		}
	}
	return *l.out, ctx.Err()
}

// looker looks at one file after the other.
type looker struct {
	out    *Found
	kind   household.Kind
	broken bool
	on     *boundary.Dir      // the shelf's folder
	sizes  map[int64][]string // of its files
	wanted map[string]string  // names that are taken, in lower case, and by which file
}

func (l *looker) one(ctx context.Context, at, rel, to string) {
	leave := func(why string) { l.out.Left = append(l.out.Left, tidy.Left{Path: at, Why: why}) }
	content, _ := naming.ContentOf(rel)
	takes := naming.Takes(l.kind, content)
	if !takes && to == rel && naming.SortOf(rel) == "" {
		leave(fmt.Sprintf("a shelf of %s takes no such file", l.kind))
		return
	}
	src, err := boundary.PlainFile(at)
	if err != nil {
		leave(err.Error())
		return
	}
	defer src.Close()
	st, err := src.Stat()
	if err != nil {
		leave(err.Error())
		return
	}
	if takes && naming.Read(l.kind, rel).Sample {
		leave("it is a sample")
		return
	}
	if takes && !l.broken {
		if why := Check(src, l.kind, rel); why != "" {
			leave(why)
			return
		}
	}
	twin, err := same(ctx, src, st.Size(), l.on, l.sizes)
	low := strings.ToLower(to)
	switch {
	case err != nil:
		leave(err.Error())
	case twin != "":
		l.out.There = append(l.out.There, There{at, twin})
	case l.wanted[low] != "":
		leave("it would have the same name as " + l.wanted[low])
	case l.on.Exists(to):
		leave(to + " is there already, and is another file")
	default:
		l.wanted[low] = at
		held := fmt.Sprintf("%d%s", len(l.out.Files)+1, strings.ToLower(path.Ext(Safe(rel))))
		l.out.Files = append(l.out.Files,
			File{Source: at, To: to, Held: held, Size: st.Size(), MTime: st.ModTime().UnixNano(), State: Waiting})
		l.out.Size += st.Size()
	}
}

// under lists the files of a source, by paths relative to a folder: that of the source, or
// the one above it where the source's own name says something.
func under(kind household.Kind, src string) (base string, list []string, err error) {
	st, err := os.Stat(src)
	if err != nil {
		return "", nil, err
	}
	if !st.IsDir() {
		if !st.Mode().IsRegular() {
			return "", nil, &fs.PathError{Op: "copy", Path: src, Err: errors.New("it is no plain file")}
		}
		return filepath.Dir(src), []string{filepath.Base(src)}, nil
	}
	media := false
	err = filepath.WalkDir(src, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if p != src && strings.HasPrefix(d.Name(), ".") {
			if d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		if d.Type().IsRegular() {
			rel, err := filepath.Rel(src, p)
			if err != nil {
				return err
			}
			list = append(list, filepath.ToSlash(rel))
			content, _ := naming.ContentOf(d.Name())
			media = media || !strings.Contains(list[len(list)-1], "/") && naming.Takes(kind, content)
		}
		return nil
	})
	// A folder with media right in it is called as a title, unless it is the top of a disk.
	if name := filepath.Base(src); media && kind != household.Films && name != "/" {
		for i := range list {
			list[i] = path.Join(name, list[i])
		}
		return filepath.Dir(src), list, err
	}
	return src, list, err
}

// names gives each file the path it should have on the shelf.
func names(kind household.Kind, list []string) map[string]string {
	out := map[string]string{}
	for _, f := range list {
		out[f] = f
		if fitted := fit(f); fitted != f {
			out[f] = fitted
		}
	}
	for _, m := range tidy.Draw(kind, tidy.AsItIs, list).Moves {
		if m.Confidence < tidy.Sure {
			continue
		}
		out[m.From] = m.To
		for _, w := range m.With {
			out[w.From] = w.To
		}
	}
	return out
}

// fit makes every part of a path fit for every file system.
func fit(p string) string {
	parts := strings.Split(p, "/")
	for i := range parts {
		parts[i] = Safe(parts[i])
	}
	return strings.Join(parts, "/")
}

// sizes gives the files of a folder by their size.
func sizes(folder string) (map[int64][]string, error) {
	out := map[int64][]string{}
	err := filepath.WalkDir(folder, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			if p == folder {
				return err
			}
			return nil // what cannot be seen is not compared
		}
		if d.IsDir() && p != folder && strings.HasPrefix(d.Name(), ".") {
			return filepath.SkipDir
		}
		if !d.Type().IsRegular() {
			return nil
		}
		st, err := d.Info()
		if err != nil {
			return nil
		}
		rel, err := filepath.Rel(folder, p)
		if err == nil {
			out[st.Size()] = append(out[st.Size()], filepath.ToSlash(rel))
		}
		return err
	})
	return out, err
}

// same finds a file of the shelf with the same bytes.
func same(ctx context.Context, src *os.File, size int64, on *boundary.Dir, shelf map[int64][]string) (string, error) {
	if size == 0 {
		return "", nil
	}
	for _, rel := range shelf[size] {
		other, err := on.File(rel, nil)
		if err != nil {
			continue
		}
		equal, err := equal(ctx, src, other)
		other.Close()
		if err != nil {
			if errors.Is(err, context.Canceled) {
				return "", err
			}
			continue
		}
		if equal {
			return rel, nil
		}
	}
	return "", nil
}

// equal reports whether two open files hold the same bytes.
func equal(ctx context.Context, a, b *os.File) (bool, error) {
	fa, fb := io.NewSectionReader(a, 0, math.MaxInt64), io.NewSectionReader(b, 0, math.MaxInt64)
	ba, bb := make([]byte, 1<<20), make([]byte, 1<<20)
	for {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		na, ea := io.ReadFull(fa, ba)
		nb, eb := io.ReadFull(fb, bb)
		if !bytes.Equal(ba[:na], bb[:nb]) {
			return false, nil
		}
		if ea != nil || eb != nil {
			over := func(err error) bool { return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) }
			if !over(ea) || !over(eb) {
				return false, errors.Join(ea, eb)
			}
			return true, nil
		}
	}
}

// chunk is how much is copied at once, between two looks at the clock.
const chunk = 8 << 20

// Copy copies the files of a job that are not whole yet into its folder, and checks each
// against its source by SHA-256. told hears of bytes. It stops at the first that fails.
func (j *Job) Copy(ctx context.Context, progress func(n int64)) error {
	j.State, j.Why = Coming, ""
	if err := j.Save(); err != nil {
		return err
	}
	for i := range j.Files {
		f := &j.Files[i]
		if f.State == Held || f.State == Placed {
			progress(f.Size)
			continue
		}
		f.State, f.Why = Coming, ""
		if err := j.copyOne(ctx, f, progress); err != nil {
			if errors.Is(err, context.Canceled) {
				f.State, j.State = Waiting, Waiting
				return errors.Join(err, j.Save())
			}
			if errors.Is(err, unix.ENOSPC) {
				err = fmt.Errorf("the disk is full: %w", err)
			}
			// Where not even that can be noted, the job is found cut off.
			_ = j.Fail(f, err.Error())
			return err
		}
		f.State = Held
		if err := j.Save(); err != nil {
			return err
		}
	}
	j.State = Held
	return j.Save()
}

func (j *Job) copyOne(ctx context.Context, f *File, progress func(n int64)) error {
	src, err := boundary.PlainFile(f.Source)
	if err != nil {
		return err
	}
	defer src.Close()
	st, err := src.Stat()
	if err != nil {
		return err
	}
	if st.Size() != f.Size || st.ModTime().UnixNano() != f.MTime {
		return &fs.PathError{Op: "copy", Path: f.Source, Err: errors.New("it was changed since it was looked at")}
	}
	dst, err := j.openHeld(f, true)
	if err != nil {
		return err
	}
	defer dst.Close()
	sum := sha256.New()
	done, err := resume(ctx, src, dst, f.Size, sum)
	if err != nil {
		return err
	}
	progress(done)
	// The same blocks in two files, where the file system has that.
	if done == 0 && unix.IoctlFileClone(int(dst.Fd()), int(src.Fd())) == nil {
		if err := hashOf(ctx, src, sum, 0, f.Size, progress); err != nil {
			return err
		}
		done = f.Size
	}
	saved := time.Now()
	for done < f.Size {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, err := copyChunk(dst, src, done, min(chunk, f.Size-done))
		if err != nil {
			return err
		}
		if n == 0 {
			return &fs.PathError{Op: "copy", Path: f.Source, Err: errors.New("it ends before its size")}
		}
		if err := hashOf(ctx, src, sum, done, n, nil); err != nil {
			return err
		}
		done += n
		progress(n)
		if f.Done = done; time.Since(saved) > 2*time.Second {
			if err := j.Save(); err != nil {
				return err
			}
			saved = time.Now()
		}
	}
	if err := dst.Truncate(f.Size); err != nil {
		return err
	}
	if err := dst.Sync(); err != nil {
		return err
	}
	f.Done, f.Sum = f.Size, hex.EncodeToString(sum.Sum(nil))
	// Read what is on the disk, not what is still in memory.
	_ = unix.Fadvise(int(dst.Fd()), 0, 0, unix.FADV_DONTNEED)
	again := sha256.New()
	if err := hashOf(ctx, dst, again, 0, f.Size, nil); err != nil {
		return err
	}
	if hex.EncodeToString(again.Sum(nil)) != f.Sum {
		_ = j.dir.Remove(f.Held) // it is worth nothing; the next try begins anew
		return &fs.PathError{Op: "verify", Path: f.Source,
			Err: errors.New("what was written is not what was read: a disk or a cable is failing")}
	}
	at := unix.NsecToTimespec(f.MTime)
	err = unix.UtimesNanoAt(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", dst.Fd()), []unix.Timespec{at, at}, 0)
	if err != nil {
		return &fs.PathError{Op: "set the times of", Path: dst.Name(), Err: err}
	}
	return nil
}

// resume compares what is there of a copy with its source, and gives how much of it can
// stay. The hash takes that in.
func resume(ctx context.Context, src, dst *os.File, size int64, sum hash.Hash) (int64, error) {
	st, err := dst.Stat()
	if err != nil {
		return 0, err
	}
	// The end of what was being written may not have reached the disk.
	have := min(st.Size(), size) / chunk * chunk
	if st.Size() == size {
		have = size
	}
	a, b := make([]byte, 1<<20), make([]byte, 1<<20)
	for done := int64(0); done < have; {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		n := min(int64(len(a)), have-done)
		if _, err := src.ReadAt(a[:n], done); err != nil {
			return 0, err
		}
		if _, err := dst.ReadAt(b[:n], done); err != nil || !bytes.Equal(a[:n], b[:n]) {
			return done, dst.Truncate(done)
		}
		sum.Write(a[:n])
		done += n
	}
	return have, dst.Truncate(have)
}

// copyChunk copies some bytes, within the kernel where that can be done.
func copyChunk(dst, src *os.File, at, n int64) (int64, error) {
	from, to := at, at
	m, err := unix.CopyFileRange(int(src.Fd()), &from, int(dst.Fd()), &to, int(n), 0)
	if err == nil && m > 0 {
		return int64(m), nil
	}
	if errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EIO) || errors.Is(err, unix.EDQUOT) {
		return 0, &fs.PathError{Op: "write", Path: dst.Name(), Err: err}
	}
	return io.Copy(io.NewOffsetWriter(dst, at), io.NewSectionReader(src, at, n))
}

func hashOf(ctx context.Context, f *os.File, sum hash.Hash, at, n int64, progress func(int64)) error {
	r := io.NewSectionReader(f, at, n)
	b := make([]byte, 1<<20)
	for left := n; left > 0; {
		if err := ctx.Err(); err != nil {
			return err
		}
		m, err := r.Read(b)
		sum.Write(b[:m])
		if left -= int64(m); progress != nil {
			progress(int64(m))
		}
		if err != nil && left > 0 {
			return &fs.PathError{Op: "read", Path: f.Name(), Err: err}
		}
	}
	return nil
}

// Release removes the sources of a job that was to move them, once all is on the shelf:
// only those that are as they were when they were read.
func (j *Job) Release() (removed int, kept []tidy.Left) {
	dirs := map[string]bool{}
	for _, f := range j.Files {
		if f.State != Placed {
			continue
		}
		dir, base := filepath.Split(f.Source)
		err := release(filepath.Clean(dir), base, f)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			kept = append(kept, tidy.Left{Path: f.Source, Why: err.Error()})
		default:
			removed++
			dirs[filepath.Clean(dir)] = true
		}
	}
	list := make([]string, 0, len(dirs))
	for d := range dirs {
		list = append(list, d)
	}
	slices.SortFunc(list, func(a, b string) int { return len(b) - len(a) })
	for _, d := range list {
		if above, err := boundary.Open(filepath.Dir(d)); err == nil {
			_ = above.RemoveDir(filepath.Base(d)) // where it is empty
			above.Close()
		}
	}
	return removed, kept
}

func release(dir, name string, f File) error {
	d, err := boundary.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	src, err := d.File(name, nil)
	if err != nil {
		return err
	}
	defer src.Close()
	st, err := src.Stat()
	if err != nil {
		return err
	}
	if st.Size() != f.Size || st.ModTime().UnixNano() != f.MTime {
		return errors.New("it was changed since it was copied")
	}
	return d.Remove(name)
}
