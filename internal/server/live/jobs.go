package live

import (
	"cmp"
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"cozyshelf/internal/control"
)

// Job is something that the server does beside answering, until its context ends or there is
// nothing left to do.
type Job struct {
	Name string
	Run  func(context.Context)
}

// jobs starts jobs, tells which are running, and waits for their end.
type jobs struct {
	log  *slog.Logger
	mu   sync.Mutex
	list []control.Job
	work sync.WaitGroup
}

// Start starts a job.
func (j *jobs) Start(ctx context.Context, one Job) {
	j.mu.Lock()
	at := len(j.list)
	j.list = append(j.list, control.Job{Name: one.Name, Started: time.Now(), Running: true})
	j.mu.Unlock()
	j.work.Go(func() {
		one.Run(ctx)
		j.mu.Lock()
		defer j.mu.Unlock()
		j.list[at].Running, j.list[at].Ended = false, time.Now()
		j.log.Debug("a job has ended", "job", one.Name, "seconds", j.list[at].Ended.Sub(j.list[at].Started).Seconds())
	})
}

// Status gives all jobs, by name.
func (j *jobs) Status() []control.Job {
	j.mu.Lock()
	defer j.mu.Unlock()
	out := slices.Clone(j.list)
	slices.SortFunc(out, func(a, b control.Job) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Wait waits until all have ended.
func (j *jobs) Wait() { j.work.Wait() }
