package server

import (
	"context"
	"net/http"
	"runtime"
	"sync"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/openmetrics"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/server/admin"
	"cozyshelf/internal/server/live"
)

// measuredFor is for how long measurements are given again: they are read from the store.
const measuredFor = 2 * time.Second

// measurements are what /metrics tells, read when it is asked for. Labels are bounded: shelves are those of the
// household file, deliveries and places are words of ours.
type measurements struct {
	*Server
	mu   sync.Mutex
	last []openmetrics.Family
	at   time.Time
}

func (m *measurements) read(ctx context.Context, now time.Time) (list []openmetrics.Family) {
	family := func(kind openmetrics.Kind, name, help string) *openmetrics.Family {
		list = append(list, openmetrics.Family{Name: name, Kind: kind, Help: help})
		return &list[len(list)-1]
	}
	gauge := func(name, help string, value float64, labels ...string) {
		family(openmetrics.Gauge, "cozyshelf_"+name, help).Add(value, labels...)
	}
	yes := map[bool]float64{true: 1}
	gauge("build_info", "The program; always 1.", 1, "version", m.Version)
	gauge("ready", "Whether the server is ready: 1, or 0.", yes[m.Condition(ctx).Status == control.Ready])
	door := m.Door.Status()
	gauge("connections", "Connections to the published ports.", float64(door.Connections))
	family(openmetrics.Counter, "cozyshelf_connections_refused_total",
		"Connections that gave way to others, or were refused.").Add(float64(door.Turned))
	gauge("deliveries", "Files that are being sent.", float64(m.Cuts.Count()))
	if free, err := live.FreeBytes(m.Settings.State); err == nil {
		gauge("state_free_bytes", "Bytes free where the state folder lies.", float64(free))
	}
	if k := m.Certificate; k != nil {
		if r := k.Report(now); !r.Ends.IsZero() {
			gauge("certificate_expiry_timestamp_seconds", "When the certificate of HTTPS ends.", float64(r.Ends.Unix()))
		}
	}
	if b := m.BackupStatus(); b != nil && !b.Last.IsZero() {
		gauge("backup_last_timestamp_seconds", "When the server's last own backup was made.", float64(b.Last.Unix()))
	}
	if members, err := m.Store.Members(ctx); err == nil {
		gauge("members", "Members of the household.", float64(len(members)))
	}
	m.streams(ctx, family(openmetrics.Gauge, "cozyshelf_streams", "Streams that are running."))
	if shelves, err := m.ShelfList(ctx); err == nil {
		for _, one := range []struct {
			name, help string
			of         func(control.Shelf) float64
		}{{"titles", "Titles on a shelf.", func(s control.Shelf) float64 { return float64(s.Titles) }},
			{"files", "Files on a shelf.", func(s control.Shelf) float64 { return float64(s.Files) }},
			{"size_bytes", "Size of the files on a shelf.", func(s control.Shelf) float64 { return float64(s.Size) }},
			{"duration_seconds", "Length of the files on a shelf.", func(s control.Shelf) float64 { return s.Duration }},
			{"problems", "Files on a shelf that somebody should see to.",
				func(s control.Shelf) float64 { return float64(s.Problems) }},
			{"connected", "Whether all folders of a shelf are there: 1, or 0.",
				func(s control.Shelf) float64 { return yes[len(s.Unplugged) == 0] }}} {
			f := family(openmetrics.Gauge, "cozyshelf_shelf_"+one.name, one.help)
			for _, sh := range shelves {
				f.Add(one.of(sh), "shelf", sh.Name)
			}
		}
	}
	// By the names that all who measure processes use.
	family(openmetrics.Counter, "process_cpu_seconds_total", "Processor time used, in seconds.").Add(admin.Processor())
	family(openmetrics.Gauge, "process_resident_memory_bytes", "Resident memory.").Add(float64(admin.Resident()))
	family(openmetrics.Gauge, "process_start_time_seconds", "When the server began.").Add(float64(m.Started.Unix()))
	family(openmetrics.Gauge, "go_goroutines", "Goroutines that there are.").Add(float64(runtime.NumGoroutine()))
	return list
}

// streams counts those that are running, by how and where they are delivered.
func (m *measurements) streams(ctx context.Context, to *openmetrics.Family) {
	plays, err := m.Store.Plays(ctx, usage.Filter{Open: true, Limit: 1000})
	if err != nil {
		return
	}
	count := map[[2]string]int{}
	for _, p := range plays {
		key := [2]string{p.Delivery, string(usage.AtHome)}
		if p.Away {
			key[1] = string(usage.Away)
		}
		if p.Delivery == "" {
			key[0] = usage.Deliveries[0]
		}
		count[key]++
	}
	for _, d := range usage.Deliveries {
		for _, where := range []usage.Where{usage.AtHome, usage.Away} {
			to.Add(float64(count[[2]string{d, string(where)}]), "delivery", d, "where", string(where))
		}
	}
}

// ServeHTTP answers with measurements, as OpenMetrics or in Prometheus' form, as is asked.
func (m *measurements) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	m.mu.Lock()
	if now := time.Now(); now.Sub(m.at).Abs() > measuredFor {
		m.last, m.at = m.read(r.Context(), now), now
	}
	list := m.last
	m.mu.Unlock()
	open := openmetrics.Wants(r.Header.Get("Accept"))
	w.Header().Set("Content-Type", map[bool]string{true: openmetrics.TypeOpen, false: openmetrics.TypeText}[open])
	_, _ = w.Write(openmetrics.Write(list, open)) // whoever asked may have gone
}
