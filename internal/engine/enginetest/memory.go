package enginetest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/pack"
)

// Memory is an engine that keeps all in memory. Its zero value is ready to use. It has no
// servers of its own: what runs is only said to run, unless Serves is set.
type Memory struct {
	// Serves has a service that runs listen on its port and answer as a server does.
	Serves bool
	// Sick are the ports whose servers never get well, by Health.
	Sick map[int]bool
	// Bend names one way to misbehave; see bends.
	Bend string

	mu       sync.Mutex
	made     int
	have     blueprint.Observed
	keepers  map[string][]string // digest of a program → households
	logs     map[string][]string
	servers  map[string]*http.Server
	networks map[string]string // name → household
	volumes  map[string]string
}

// bent reports whether it misbehaves in a way.
func (m *Memory) bent(how string) bool { return m.Bend == how }

// Facts says that it answers.
func (m *Memory) Facts(context.Context) facts.Engine {
	f := facts.Engine{Kind: "memory", Can: Containers, Answers: true, Version: "1", Endpoint: "memory",
		Arch: runtime.GOARCH}
	switch {
	case m.bent("is silent"):
		f.Answers = false
	case m.bent("is of another kind"):
		f.Kind = "other"
	case m.bent("cannot do what it should"):
		f.Can.Limits = false
	case m.bent("hides where it is"):
		f.Endpoint = ""
	}
	return f
}

// Observe gives what there is of a household.
func (m *Memory) Observe(_ context.Context, household string) (blueprint.Observed, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.bent("cannot be observed") {
		return blueprint.Observed{}, errors.New("it cannot be observed")
	}
	var o blueprint.Observed
	for _, c := range m.have.Containers {
		if c.Service.Household != household {
			continue
		}
		switch {
		case m.bent("hides what runs"):
			c.Running = false
		case m.bent("says that all runs"):
			c.Running = true
		case m.bent("forgets digests"):
			c.Digest = ""
		case m.bent("names wrongly"):
			c.Name = "x"
		case m.bent("mixes services up"):
			c.Key = "other"
		case m.bent("forgets when it started"):
			c.Started = time.Time{}
		}
		o.Containers = append(o.Containers, c)
	}
	for n, of := range m.networks {
		if of == household {
			o.Networks = append(o.Networks, n)
		}
	}
	for n, of := range m.volumes {
		if of == household {
			o.Volumes = append(o.Volumes, n)
		}
	}
	slices.Sort(o.Networks)
	slices.Sort(o.Volumes)
	for digest, by := range m.keepers {
		if m.bent("hides images") {
			continue
		}
		o.Images = append(o.Images, digest)
		if slices.Contains(by, household) && !m.bent("forgets who keeps") {
			o.Kept = append(o.Kept, digest)
		}
	}
	o.Images = append(o.Images, m.have.Images...)
	slices.Sort(o.Images)
	slices.Sort(o.Kept)
	return o, nil
}

// LoadImage keeps a program for a household.
func (m *Memory) LoadImage(_ context.Context, img pack.Image, household string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.keepers == nil {
		m.keepers = map[string][]string{}
	}
	if by := m.keepers[img.Digest]; !slices.Contains(by, household) {
		m.keepers[img.Digest] = append(by, household)
	} else if m.bent("loads once only") {
		return errors.New("it is there already")
	}
	return nil
}

// LoadArchive and Fetch note the name of an image.
func (m *Memory) LoadArchive(_ context.Context, _, _, name string) error {
	return m.Fetch(context.Background(), name)
}

// Fetch notes the name of an image.
func (m *Memory) Fetch(_ context.Context, reference string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.have.Images = append(m.have.Images, reference)
	return nil
}

// RemoveImage lets a household keep a program no longer.
func (m *Memory) RemoveImage(_ context.Context, digest, household string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	by := m.keepers[digest]
	if m.bent("keeps images for ever") {
		return nil
	}
	if m.bent("removes what is used") {
		delete(m.keepers, digest)
		return nil
	}
	for _, c := range m.have.Containers {
		if c.Service.Image.Program == digest && c.Service.Household == household {
			return fmt.Errorf("%w: %s", engine.ErrInUse, c.Name)
		}
	}
	by = slices.DeleteFunc(slices.Clone(by), func(h string) bool { return h == household })
	if len(by) > 0 && !m.bent("removes what others keep") {
		m.keepers[digest] = by
		return engine.ErrInUse
	}
	delete(m.keepers, digest)
	return nil
}

// MakeNetwork makes a network.
func (m *Memory) MakeNetwork(_ context.Context, name, household string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.networks == nil {
		m.networks = map[string]string{}
	}
	if m.networks[name] != "" && m.bent("makes networks once only") {
		return errors.New("there is one already")
	}
	if !m.bent("makes no networks") {
		m.networks[name] = household
	}
	return nil
}

// RemoveNetwork removes it.
func (m *Memory) RemoveNetwork(_ context.Context, name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.bent("keeps networks") {
		delete(m.networks, name)
	}
	return nil
}

// MakeVolume makes a volume.
func (m *Memory) MakeVolume(_ context.Context, name, household string, _ map[string]string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.volumes == nil {
		m.volumes = map[string]string{}
	}
	m.volumes[name] = household
	if m.bent("loses volumes") {
		delete(m.volumes, name)
	}
	return nil
}

// RemoveVolume removes it.
func (m *Memory) RemoveVolume(_ context.Context, name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.volumes[name] == "" && m.bent("removes volumes once only") {
		return engine.ErrNotFound
	}
	if !m.bent("keeps volumes") {
		delete(m.volumes, name)
	}
	return nil
}

// Create makes a container.
func (m *Memory) Create(_ context.Context, s blueprint.Service) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if p := s.Image.Program; p != "" && len(m.keepers[p]) == 0 && !m.bent("needs no image") {
		return "", fmt.Errorf("%w: image %s", engine.ErrNotFound, s.Image)
	}
	for _, c := range m.have.Containers {
		if c.Digest == s.Digest() && c.Service.Household == s.Household && !m.bent("makes it twice") {
			return c.ID, nil
		}
	}
	m.made++
	id := fmt.Sprint("c", m.made)
	m.have.Containers = append(m.have.Containers,
		blueprint.Container{ID: id, Name: s.EngineName(), Key: s.Key, Digest: s.Digest(),
			Service: s})
	return id, nil
}

// at finds a container; the lock is held.
func (m *Memory) at(id string) (*blueprint.Container, error) {
	for i := range m.have.Containers {
		if m.have.Containers[i].ID == id {
			return &m.have.Containers[i], nil
		}
	}
	if m.bent("takes what is not there for well") {
		return nil, nil
	}
	return nil, fmt.Errorf("%w: %s", engine.ErrNotFound, id)
}

// Start says that a container runs, and has it serve where that is wished.
func (m *Memory) Start(_ context.Context, id string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	c, err := m.at(id)
	if err != nil || c == nil {
		return err
	}
	if c.Running {
		if m.bent("starts once only") {
			return errors.New("it runs")
		}
		return nil
	}
	c.Running, c.Started = true, time.Now()
	if !m.Serves || m.bent("starts nothing") {
		return nil
	}
	return m.serve(c)
}

func (m *Memory) serve(c *blueprint.Container) error {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", c.Service.Port()))
	if err != nil {
		return err
	}
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {})}
	if m.servers == nil {
		m.servers, m.logs = map[string]*http.Server{}, map[string][]string{}
	}
	m.servers[c.ID] = srv
	go func() { _ = srv.Serve(l) }() // it ends with Stop
	now := time.Now().UTC()
	m.logs[c.ID] = []string{now.Format(time.RFC3339Nano) + " msg=serving", now.Format(time.RFC3339Nano) +
		" msg=scanned"}
	switch {
	case m.bent("logs without times"):
		m.logs[c.ID][0] = "msg=serving"
	case m.bent("logs backwards"):
		m.logs[c.ID][0] = now.Add(time.Hour).Format(time.RFC3339Nano) + " msg=serving"
	}
	store := filepath.Join(c.Service.State, "store.db")
	if err := os.WriteFile(store, nil, 0o600); err != nil {
		return err
	}
	if m.bent("writes as somebody else") {
		return os.Chown(store, 4242, 4242)
	}
	if os.Getuid() == 0 {
		return os.Chown(store, int(c.Service.UID), int(c.Service.GID))
	}
	return nil
}

// Stop says that it does not run.
func (m *Memory) Stop(_ context.Context, id string, _ time.Duration) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	c, err := m.at(id)
	if err != nil || c == nil {
		return err
	}
	if !c.Running && m.bent("stops once only") {
		return errors.New("it does not run")
	}
	c.Running = false
	if srv := m.servers[id]; srv != nil && !m.bent("stops nothing") {
		return srv.Close()
	}
	return nil
}

// Remove forgets a container that does not run.
func (m *Memory) Remove(_ context.Context, id string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	c, err := m.at(id)
	if errors.Is(err, engine.ErrNotFound) && !m.bent("removes once only") || c == nil && err == nil {
		return nil
	}
	if err != nil {
		return err
	}
	if c.Running && !m.bent("removes what runs") {
		return fmt.Errorf("%w: it runs", engine.ErrInUse)
	}
	if m.bent("keeps containers") {
		return nil
	}
	m.have.Containers = slices.DeleteFunc(m.have.Containers, func(s blueprint.Container) bool { return s.ID == id })
	return nil
}

// Run does what the commands would that the suite gives it.
func (m *Memory) Run(ctx context.Context, s blueprint.Service, command []string, out io.Writer) (int, error) {
	if m.bent("leaves what it ran") {
		m.mu.Lock()
		m.have.Containers = append(m.have.Containers, blueprint.Container{ID: "left", Service: s, Key: "once"})
		m.mu.Unlock()
	}
	switch command[0] {
	case "probe":
		wrote := 0
		if m.bent("mounts all to be written to") {
			wrote = 1
		}
		read := 1
		if m.bent("runs without the shelves") {
			read = 0
		}
		return 0, json.NewEncoder(out).Encode(json.RawMessage(fmt.Sprintf(
			`{"folders":[{"tried":1,"read":%d,"written":%d}]}`, read, wrote)))
	case "serve":
		if m.bent("runs beyond its end") {
			return 0, nil
		}
		<-ctx.Done()
		return 0, ctx.Err()
	}
	if m.bent("hides codes") {
		return 0, nil
	}
	return 2, errors.New("there is no such command")
}

// Logs writes what was printed.
func (m *Memory) Logs(ctx context.Context, id string, o engine.LogOptions, w io.Writer) error {
	m.mu.Lock()
	_, err := m.at(id)
	lines := slices.Clone(m.logs[id])
	m.mu.Unlock()
	if err != nil {
		return err
	}
	if len(lines) == 0 {
		lines = []string{time.Now().UTC().Format(time.RFC3339Nano) + " the last words"}
	}
	if o.Since.After(time.Now()) && !m.bent("passes over since") {
		lines = nil
	}
	if o.Tail > 0 && !m.bent("passes over tail") {
		lines = lines[max(0, len(lines)-o.Tail):]
	}
	for _, l := range lines {
		fmt.Fprintln(w, l)
	}
	if o.Follow && !m.bent("does not follow") {
		<-ctx.Done()
	}
	return nil
}

// PutBack takes away what was changed by hand.
func (m *Memory) PutBack(_ context.Context, id string, _ blueprint.Service) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	c, err := m.at(id)
	if c != nil {
		c.Drift = nil
	}
	return err
}

// Neighbours gives what runs.
func (m *Memory) Neighbours(context.Context) ([]blueprint.Service, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []blueprint.Service
	for _, c := range m.have.Containers {
		if c.Running && !m.bent("hides its neighbours") {
			out = append(out, c.Service)
		}
	}
	return out, nil
}

// Health reports whether the household's server that runs is well.
func (m *Memory) Health(context.Context) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, c := range m.have.Containers {
		if c.Running && c.Key == blueprint.ServerKey && !m.Sick[c.Service.Port()] {
			return nil
		}
	}
	return errors.New("not ready")
}

// Change changes what is there, as somebody would by hand.
func (m *Memory) Change(how func(o *blueprint.Observed)) {
	m.mu.Lock()
	defer m.mu.Unlock()
	how(&m.have)
}

// String names it.
func (m *Memory) String() string { return strings.TrimSpace("memory " + m.Bend) }
