package test

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/testbuild"

	"golang.org/x/sys/unix"
)

// The yardsticks compare whole processes with what others take for the same
// work, in one run on one machine. They measure and judge nothing, so they run
// only when asked for: make yardstick. docs/performance.md keeps the outcome.

func yardstick(t *testing.T) {
	t.Helper()
	if os.Getenv("COZYSHELF_YARDSTICK") != "1" {
		t.Skip("a measurement; make yardstick runs it")
	}
}

// processorTime gives the seconds of processor time that processes have used.
func processorTime(t *testing.T, pids ...int) float64 {
	t.Helper()
	var sum float64
	for _, pid := range pids {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			t.Fatal(err)
		}
		f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
		u, _ := strconv.ParseFloat(f[11], 64)
		s, _ := strconv.ParseFloat(f[12], 64)
		sum += (u + s) / 100 // clock ticks a second, on every Linux there is
	}
	return sum
}

// fetch asks for a range over a connection of its own, and lets the kernel throw
// the bytes away: the client shares the processor with the servers, so it must
// cost little.
func fetch(address, path, auth string, from, to int64) error {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return err
	}
	f, err := c.(*net.TCPConn).File()
	c.Close()
	if err != nil {
		return err
	}
	defer f.Close()
	fmt.Fprintf(f, "GET %s HTTP/1.1\r\nHost: %s\r\nAuthorization: %s\r\nRange: bytes=%d-%d\r\n"+
		"Connection: close\r\n\r\n", path, address, auth, from, to-1)
	fd := int(f.Fd()) // blocking, as File promises
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 60}); err != nil {
		return err
	}
	head := make([]byte, 12)
	if _, err := io.ReadFull(f, head); err != nil || string(head) != "HTTP/1.1 206" {
		return fmt.Errorf("%s %q %v", path, head, err)
	}
	buf := make([]byte, 64<<10)
	var n int64
	for {
		m, _, err := unix.Recvfrom(fd, buf, unix.MSG_TRUNC)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return err
		}
		if m == 0 {
			break
		}
		n += int64(m)
	}
	if n < to-from {
		return fmt.Errorf("%d bytes came, %d were asked for", n, to-from)
	}
	return nil
}

// bigSize is how large the film is that is sent, in bytes.
const bigSize = 1 << 30

// bigFilm puts a file of that size among the films.
func bigFilm(t *testing.T, m *mill) {
	t.Helper()
	f, err := os.Create(m.path("media/films/Big (2020).mp4"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	block := make([]byte, 1<<20)
	for i := range block {
		block[i] = byte(i * 7)
	}
	for range bigSize >> 20 {
		if _, err := f.Write(block); err != nil {
			t.Fatal(err)
		}
	}
}

// TestYardstickDirectPlay compares sending a file of 1 GiB with nginx.
func TestYardstickDirectPlay(t *testing.T) {
	yardstick(t)
	if _, err := exec.LookPath("nginx"); err != nil {
		testbuild.Missing(t, "nginx")
	}
	const size = bigSize
	m := newMill(t, "process")
	bigFilm(t, m)
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	auth := "Bearer " + m.token("wren")
	file, err := m.viewer("wren").Find(t.Context(), "films", "Big", "")
	if err != nil {
		t.Fatal(err)
	}
	other, workers := besideNginx(t, m)
	type side struct {
		name, address, path string
		pids                []int
	}
	sides := []side{
		{"Cozy Shelf", fmt.Sprintf("127.0.0.1:%d", m.port), fmt.Sprintf("/api/v1/files/%d/content", file.ID),
			[]int{serverPID(m)}},
		{"nginx", other, "/Big%20(2020).mp4", workers},
	}
	for _, clients := range []int{1, 64} {
		per := int64(size)
		if clients > 1 {
			per = size / 8
		}
		wall, cpu := map[string][]float64{}, map[string][]float64{}
		// In turns, so that a slow moment of the machine hits both.
		for range 7 {
			for _, s := range sides {
				before, began := processorTime(t, s.pids...), time.Now()
				var wg sync.WaitGroup
				for i := range clients {
					wg.Go(func() {
						from := int64(i) % 8 * per % size
						if err := fetch(s.address, s.path, auth, from, from+per); err != nil {
							t.Error(err)
						}
					})
				}
				wg.Wait()
				total := float64(per) * float64(clients) / (1 << 30)
				wall[s.name] = append(wall[s.name], total/time.Since(began).Seconds())
				cpu[s.name] = append(cpu[s.name], total/max(0.01, processorTime(t, s.pids...)-before))
			}
		}
		for _, s := range sides {
			fmt.Printf("yardstick direct play, %d clients: %-10s %.2f GiB/s, %.2f GiB a processor second\n", clients,
				s.name, median(wall[s.name]), median(cpu[s.name]))
		}
		fmt.Printf("yardstick direct play, %d clients: ratio %.2f of nginx by time, %.2f by processor time\n", clients,
			median(wall["Cozy Shelf"])/median(wall["nginx"]), median(cpu["Cozy Shelf"])/median(cpu["nginx"]))
	}
}

// TestYardstickHTTPS compares sending a file of 1 GiB over HTTPS with nginx, by the processor time of the
// servers: the client, which decrypts, takes more of it than either.
func TestYardstickHTTPS(t *testing.T) {
	yardstick(t)
	if _, err := exec.LookPath("nginx"); err != nil {
		testbuild.Missing(t, "nginx")
	}
	m, port, theirs := newMill(t, "process"), testbuild.Port(t), testbuild.Port(t)
	bigFilm(t, m)
	o := m.issue("localhost")
	folder := m.path("certificate")
	if err := errors.Join(os.Mkdir(folder, 0o755), os.Rename(o.chain, filepath.Join(folder, "chain.pem")),
		os.Rename(o.key, filepath.Join(folder, "key.pem"))); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"chain.pem", "key.pem"} {
		if err := os.Chmod(filepath.Join(folder, name), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	m.section(fmt.Sprintf("[remote.certificate]\nfrom = \"files\"\nfolder = %q\nchain = \"chain.pem\"\nkey = \"key.pem\"\n"+
		"port = %d\n", folder, port))
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	auth := "Bearer " + m.token("wren")
	file, err := m.viewer("wren").Find(t.Context(), "films", "Big", "")
	if err != nil {
		t.Fatal(err)
	}
	_, workers := besideNginx(t, m, fmt.Sprintf("server { listen 127.0.0.1:%d ssl; root %q; ssl_certificate %q; "+
		"ssl_certificate_key %q; ssl_protocols TLSv1.3; }", theirs, m.path("media/films"), filepath.Join(folder,
		"chain.pem"),
		filepath.Join(folder, "key.pem")))
	roots := x509.NewCertPool()
	if ca, err := os.ReadFile(o.ca); err != nil || !roots.AppendCertsFromPEM(ca) {
		t.Fatal(err)
	}
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots},
		ReadBufferSize: 64 << 10}}
	sides := []struct {
		name, url string
		pids      []int
	}{{"Cozy Shelf", fmt.Sprintf("https://localhost:%d/api/v1/files/%d/content", port, file.ID), []int{serverPID(m)}},
		{"nginx", fmt.Sprintf("https://localhost:%d/Big%%20(2020).mp4", theirs), workers}}
	cpu := map[string][]float64{}
	for range 5 {
		for _, s := range sides {
			before := processorTime(t, s.pids...)
			r, err := http.NewRequest("GET", s.url, nil)
			if err != nil {
				t.Fatal(err)
			}
			r.Header.Set("Authorization", auth)
			res, err := client.Do(r)
			if err != nil {
				t.Fatal(err)
			}
			n, err := io.Copy(io.Discard, res.Body)
			res.Body.Close()
			if n != bigSize || err != nil {
				t.Fatal(s.url, res.Status, n, err)
			}
			cpu[s.name] = append(cpu[s.name], 1/max(0.01, processorTime(t, s.pids...)-before))
		}
	}
	for _, s := range sides {
		fmt.Printf("yardstick HTTPS: %-10s %.2f GiB a processor second\n", s.name, median(cpu[s.name]))
	}
	fmt.Printf("yardstick HTTPS: ratio %.2f of nginx by processor time\n", median(cpu["Cozy Shelf"])/median(cpu["nginx"]))
}

// watchAtPace takes bytes of a file at 1 MB/s for some time, in pieces of 8 to 32 KiB, and counts them.
func watchAtPace(address, path, auth string, seed int, ends time.Time, all *atomic.Int64) error {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := c.SetDeadline(ends.Add(20 * time.Second)); err != nil {
		return err
	}
	fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: %s\r\nAuthorization: %s\r\nRange: bytes=%d-\r\n\r\n", path, address, auth,
		seed<<20)
	head := make([]byte, 12)
	if _, err := io.ReadFull(c, head); err != nil || string(head) != "HTTP/1.1 206" {
		return fmt.Errorf("%s %q %v", path, head, err)
	}
	raw, err := c.(*net.TCPConn).SyscallConn()
	if err != nil {
		return err
	}
	buf := make([]byte, 32<<10)
	began, n := time.Now(), int64(0)
	for time.Now().Before(ends) {
		piece := 8<<10 + (int(n)+seed*977)%(24<<10)
		var m int
		var failed error
		if err := raw.Read(func(fd uintptr) bool {
			m, _, failed = unix.Recvfrom(int(fd), buf[:piece], unix.MSG_TRUNC|unix.MSG_DONTWAIT)
			return !errors.Is(failed, unix.EAGAIN)
		}); err != nil {
			return err
		}
		if failed != nil || m == 0 {
			return fmt.Errorf("it ended after %d bytes: %w", n, failed)
		}
		n += int64(m)
		all.Add(int64(m))
		time.Sleep(time.Until(began.Add(time.Duration(n) * time.Microsecond))) // 1 MB/s is a byte a microsecond
	}
	return nil
}

// TestYardstickManyViewers has 500 watch at once, each at the pace of a film, beside nginx. It counts from
// when all have begun until before they end, with what it takes to keep the account of them meanwhile.
func TestYardstickManyViewers(t *testing.T) {
	yardstick(t)
	if _, err := exec.LookPath("nginx"); err != nil {
		testbuild.Missing(t, "nginx")
	}
	const viewers, begins, long = 500, 4 * time.Second, 12 * time.Second
	m := newMill(t, "process")
	bigFilm(t, m)
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	var auth []string
	for i := range viewers / 20 { // a member is sent 24 at once, and no more
		p := demo.Person{Name: fmt.Sprintf("piet%d", i), Role: allowance.Guest}
		m.add(p)
		auth = append(auth, "Bearer "+m.token(p.Name))
	}
	file, err := m.viewer("wren").Find(t.Context(), "films", "Big", "")
	if err != nil {
		t.Fatal(err)
	}
	other, workers := besideNginx(t, m)
	sides := []struct {
		name, address, path string
		pids                []int
		used                []float64 // seconds of processor time a GB
	}{
		{"Cozy Shelf", fmt.Sprintf("127.0.0.1:%d", m.port), fmt.Sprintf("/api/v1/files/%d/content", file.ID),
			[]int{serverPID(m)}, nil},
		{"nginx", other, "/Big%20(2020).mp4", workers, nil},
	}
	for range 5 {
		for i := range sides {
			s := &sides[i]
			ends := time.Now().Add(begins + long)
			var all atomic.Int64
			var wg sync.WaitGroup
			for v := range viewers {
				wg.Go(func() {
					if err := watchAtPace(s.address, s.path, auth[v%len(auth)], v, ends, &all); err != nil {
						t.Error(s.name, err)
					}
				})
			}
			time.Sleep(begins)
			before, sent := processorTime(t, s.pids...), all.Load()
			time.Sleep(long - time.Second)
			used := processorTime(t, s.pids...) - before
			sent = all.Load() - sent
			wg.Wait()
			if float64(sent) < viewers*0.9e6*(long-time.Second).Seconds() {
				t.Errorf("%s sent %.2f GB, too little for %d viewers", s.name, float64(sent)/1e9, viewers)
			}
			s.used = append(s.used, used/float64(sent)*1e9)
		}
	}
	for _, s := range sides {
		fmt.Printf("yardstick %d viewers at 1 MB/s: %-10s %.3f s of processor a GB (%.3f)\n", viewers, s.name,
			median(s.used), s.used)
	}
	fmt.Printf("yardstick %d viewers at 1 MB/s: %.2f times nginx\n", viewers, median(sides[0].used)/median(sides[1].used))
}

// besideNginx starts nginx on the films of a household, and gives its address and its processes.
func besideNginx(t *testing.T, m *mill, more ...string) (other string, workers []int) {
	t.Helper()
	port := testbuild.Port(t)
	conf := m.path("nginx.conf")
	text := fmt.Sprintf("worker_processes 2; pid %s; error_log stderr; daemon off; user root;\nevents { "+
		"worker_connections 1024; }\nhttp { access_log off; sendfile on; tcp_nopush on; types { video/mp4 mp4; } "+
		"server { listen 127.0.0.1:%d; root %q; } %s }\n", m.path("nginx.pid"), port, m.path("media/films"),
		strings.Join(more, " "))
	if err := os.WriteFile(conf, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	nginx := exec.Command("nginx", "-c", conf, "-p", m.dir, "-e", "stderr")
	if err := nginx.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = nginx.Process.Signal(os.Interrupt); _ = nginx.Wait() })
	other = fmt.Sprintf("127.0.0.1:%d", port)
	for range 100 {
		if c, err := net.Dial("tcp", other); err == nil {
			c.Close()
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	children, err := exec.Command("pgrep", "-P", fmt.Sprint(nginx.Process.Pid)).Output()
	if err != nil {
		t.Fatal(err)
	}
	workers = []int{nginx.Process.Pid}
	for _, s := range strings.Fields(string(children)) {
		pid, _ := strconv.Atoi(s)
		workers = append(workers, pid)
	}
	return other, workers
}

// TestYardstickRepacked compares sending a film in segments with nginx sending the file, and with
// ffmpeg copying it.
func TestYardstickRepacked(t *testing.T) {
	yardstick(t)
	if _, err := exec.LookPath("nginx"); err != nil {
		testbuild.Missing(t, "nginx")
	}
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	id := m.film("Low Water (2014)", ".mkv", "-f", "lavfi", "-i", "testsrc2=s=1280x720:r=24:d=90", "-f", "lavfi", "-i",
		"sine=d=90", "-c:v", "libx264", "-preset", "ultrafast", "-g", "48", "-b:v", "60M", "-minrate", "60M", "-maxrate",
		"60M", "-bufsize", "30M", "-x264-params", "nal-hrd=cbr", "-pix_fmt", "yuv420p", "-c:a", "aac")
	file := m.path("media/films/Low Water (2014)/Low Water (2014).mkv")
	other, workers := besideNginx(t, m)
	get := func(address string) (n int64) {
		resp, err := http.Get(address)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		if n, err = io.Copy(io.Discard, resp.Body); err != nil || resp.StatusCode != http.StatusOK {
			t.Fatal(address, resp.Status, err)
		}
		return n
	}
	d, _ := m.deliver(id, `{"video":["avc1.640034"]}`)
	base := m.address() + strings.TrimSuffix(d.URL, "main.m3u8")
	began := time.Now()
	get(base + "v1-3.m4s")
	first := time.Since(began)
	text, _ := fetchURL(t, base+"v1.m3u8")
	pieces := strings.Count(string(text), "#EXTINF")
	ours, theirs, alone := []float64{}, []float64{}, []float64{}
	server := serverPID(m)
	for range 7 {
		before, sent := processorTime(t, server), int64(0)
		for i := range pieces {
			sent += get(fmt.Sprintf("%sv1-%d.m4s", base, i)) + get(fmt.Sprintf("%ss2-%d.m4s", base, i))
		}
		ours = append(ours, (processorTime(t, server)-before)/float64(sent)*(1<<30))
		before = processorTime(t, workers...)
		sent = get("http://" + other + "/Low%20Water%20(2014)/Low%20Water%20(2014).mkv")
		theirs = append(theirs, (processorTime(t, workers...)-before)/float64(sent)*(1<<30))
		c := exec.Command("ffmpeg", "-nostdin", "-v", "error", "-y", "-i", file, "-c", "copy", "-f", "hls",
			"-hls_segment_type", "fmp4", m.path("copied.m3u8"))
		c.Dir = m.dir
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		used := c.ProcessState.UserTime() + c.ProcessState.SystemTime()
		alone = append(alone, used.Seconds()/float64(sent)*(1<<30))
	}
	fmt.Printf("yardstick repacked: %.2f s of processor a GiB, nginx with the file %.2f s (%.2f times), "+
		"ffmpeg -c copy to segments %.2f s; first segment after %s\n", median(ours), median(theirs),
		median(ours)/median(theirs),
		median(alone), first.Round(100*time.Microsecond))
}

func median(list []float64) float64 {
	list = slices.Sorted(slices.Values(list))
	return list[len(list)/2]
}

// TestYardstickScan compares a first scan and an unchanged rescan of 100,000
// files with find, which asks the same of the file system.
func TestYardstickScan(t *testing.T) {
	yardstick(t)
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	tree := m.tree(100000)
	find := func(dir string) float64 {
		began := time.Now()
		c := exec.Command("find", dir, "-printf", "%p %s %T@\n")
		if err := c.Run(); err != nil {
			t.Fatal(err)
		}
		return time.Since(began).Seconds()
	}
	// Everything is in memory then, for all.
	find(tree)
	headers(t, tree)
	read := median([]float64{headers(t, tree), headers(t, tree), headers(t, tree)})
	films := m.path("media/films")
	if err := os.Rename(tree, filepath.Join(films, "tree")); err != nil {
		t.Fatal(err)
	}
	scan := func() float64 {
		began := time.Now()
		m.must("shelf", "scan", "films")
		return time.Since(began).Seconds()
	}
	first := scan()
	var finds, rescans []float64
	for range 7 {
		finds = append(finds, find(films))
		rescans = append(rescans, scan())
	}
	f := median(finds)
	fmt.Printf("yardstick scan of 100,000 files: find %.2f s, first scan %.2f s (%.1f×), unchanged rescan %.2f s "+
		"(%.2f×)\n", f, first, first/f, median(rescans), median(rescans)/f)
	fmt.Printf("yardstick scan of 100,000 files: reading the headers one by one, as find does, %.2f s; the first "+
		"scan takes %.2f of twice find and that\n", read, first/(2*f+read))
	fmt.Printf("yardstick memory after scanning 100,000 files: %s resident\n", resident(t, serverPID(m)))
}

// headers reads the headers of all media files of a tree one after the other and does
// nothing else, and gives the seconds that takes.
func headers(t *testing.T, tree string) float64 {
	t.Helper()
	began, n := time.Now(), 0
	err := filepath.WalkDir(tree, func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		f, err := os.Open(p)
		if err != nil {
			return err
		}
		defer f.Close()
		st, err := f.Stat()
		if err != nil {
			return err
		}
		n++
		_, err = media.Read(f, st.Size())
		return err
	})
	if err != nil || n < 100 {
		t.Fatalf("%d headers were read, %v", n, err)
	}
	return time.Since(began).Seconds()
}

func resident(t *testing.T, pid int) string {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for line := range strings.Lines(string(b)) {
		if k, v, ok := strings.Cut(line, ":"); ok &&
			(k == "VmHWM" || k == "VmRSS" || k == "RssAnon" || k == "RssFile") {
			n, _ := strconv.Atoi(strings.Fields(v)[0])
			out = append(out, fmt.Sprintf("%s %.1f MiB", k, float64(n)/1024))
		}
	}
	return strings.Join(out, ", ")
}

// TestYardstickDeploy measures deployments and the idle server.
func TestYardstickDeploy(t *testing.T) {
	yardstick(t)
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		timed := func(args ...string) float64 {
			began := time.Now()
			m.must(args...)
			return time.Since(began).Seconds()
		}
		first := timed("deploy", "--yes")
		m.add(demo.People[0])
		m.viewer("wren")
		var same, changed []float64
		port := m.port
		for range 5 {
			for range 3 {
				same = append(same, timed("deploy", "--yes"))
			}
			next := testbuild.Port(t)
			m.edit(fmt.Sprintf("= %d", port), fmt.Sprintf("= %d", next))
			port, m.port = next, next
			changed = append(changed, timed("deploy", "--yes"))
		}
		fmt.Printf("yardstick deploy on %s: first, with the image, to healthy %.2f s; changed %.2f s; nothing to "+
			"do %.3f s\n", engine, first, median(changed), median(same))
		m.viewer("wren")
		time.Sleep(20 * time.Second)
		fmt.Printf("yardstick idle server on %s: %s\n", engine, resident(t, serverPID(m)))
	})
}

// TestYardstickAccess compares cozyshelf access on a warm tree of a million files
// with find -printf '%m %U %G %p\n' on the same. Its memory is given, too.
func TestYardstickAccess(t *testing.T) {
	yardstick(t)
	m := newMill(t, "process")
	films := m.path("media/films")
	for d := range 2000 {
		dir := filepath.Join(films, fmt.Sprintf("box %02d", d/100), fmt.Sprintf("shelf %02d", d%100))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		for i := range 500 {
			fd, err := unix.Open(filepath.Join(dir, fmt.Sprintf("A Film of Some Length %06d (2001).mkv", i)),
				unix.O_CREAT|unix.O_WRONLY|unix.O_CLOEXEC, 0o644)
			if err != nil {
				t.Fatal(err)
			}
			unix.Close(fd)
		}
	}
	var ours, theirs, memory []float64
	for range 5 {
		null, err := os.OpenFile(os.DevNull, os.O_WRONLY, 0)
		if err != nil {
			t.Fatal(err)
		}
		find := exec.Command("find", films, "-printf", "%m %U %G %p\n")
		find.Stdout = null
		began := time.Now()
		if err := find.Run(); err != nil {
			t.Fatal(err)
		}
		theirs = append(theirs, time.Since(began).Seconds())
		c := m.command("access", "films", "--json")
		c.Stdout = null
		began = time.Now()
		if err := c.Run(); err != nil {
			t.Fatal(err)
		}
		ours = append(ours, time.Since(began).Seconds())
		memory = append(memory, float64(c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)/1024)
		null.Close()
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	slices.Sort(memory)
	t.Logf("access of a million files: %.2f s, find: %.2f s, ratio %.2f (best %.2f, worst %.2f); memory at most "+
		"%.0f MiB",
		ours[2], theirs[2], ours[2]/theirs[2], ours[0]/theirs[0], ours[4]/theirs[4], memory[4])
}

// TestYardstickMillion measures what a server needs for a million files that are really
// there, each of its own content: a first scan, a rescan, pages, searches and lists.
func TestYardstickMillion(t *testing.T) {
	yardstick(t)
	const shows, episodes = 50_000, 20
	m := newMill(t, "process")
	clip := m.path("clip.mp4")
	if out, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc=s=32x32:r=5:d=0.2", "-c:v",
		"mpeg4", "-movflags", "+faststart", clip).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	b := append(read(clip), "\x00\x00\x00\x10free01234567"...)
	tree := m.path("tree")
	for n := range shows {
		name := fmt.Sprintf("%s Harbour %d", []string{"Tiny", "Copper", "Paper", "Salt", "Winter", "Lantern"}[n%6], n)
		dir := filepath.Join(tree, fmt.Sprint(n/1000), name, "Season 01")
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		for e := range episodes {
			copy(b[len(b)-8:], fmt.Sprintf("%08d", n*episodes+e))
			if err := os.WriteFile(fmt.Sprintf("%s/%s S01E%02d.mp4", dir, name, e+1), b, 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	find := func() float64 {
		began := time.Now()
		if err := exec.Command("find", m.path("media/series"), "-printf", "%p %s %T@\n").Run(); err != nil {
			t.Fatal(err)
		}
		return time.Since(began).Seconds()
	}
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	if err := os.Rename(tree, m.path("media/series/tree")); err != nil {
		t.Fatal(err)
	}
	find()
	began := time.Now()
	m.must("shelf", "scan", "series")
	first := time.Since(began).Seconds()
	f := find()
	began = time.Now()
	m.must("shelf", "scan", "series")
	fmt.Printf("yardstick 1,000,000 files: find %.2f s, first scan %.1f s, rescan %.2f s; %s\n", f, first,
		time.Since(began).Seconds(), resident(t, serverPID(m)))
	cookie := "shelf_session=" + m.token("wren")
	times := map[string][]float64{}
	ask := func(what, path string) {
		began := time.Now()
		if res, body := m.get("GET", path, "", "Cookie", cookie); res.StatusCode != 200 {
			t.Fatalf("%s: %s %s", path, res.Status, body)
		}
		times[what] = append(times[what], time.Since(began).Seconds()*1000)
	}
	for range 20 {
		ask("first page", "/")
		ask("page of the shelf", "/shelf/series")
		ask("page in its midst", "/shelf/series?from=paper")
		ask("titles by the API", "/api/v1/shelves/series/titles?from=salt")
		ask("search", "/api/v1/search?q=lantern+harb")
		ask("page found", "/find?q=copp")
	}
	for what, list := range times {
		slices.Sort(list)
		fmt.Printf("yardstick 1,000,000 files: %s %.1f ms (median), %.1f ms (worst)\n", what, list[len(list)/2],
			list[len(list)-1])
	}
	fmt.Printf("yardstick 1,000,000 files, after pages: %s\n", resident(t, serverPID(m)))
	for _, args := range [][]string{{"shelf", "show", "series", "--json"}, {"shelf", "show", "--problems", "--json"},
		{"shelf", "show", "--json"}} {
		began := time.Now()
		m.must(args...)
		fmt.Printf("yardstick 1,000,000 files: %s %.1f s, then %s\n", strings.Join(args, " "),
			time.Since(began).Seconds(), resident(t, serverPID(m)))
	}
}
