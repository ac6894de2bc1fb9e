package live

import (
	"context"
	"path/filepath"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/core/line"
	"cozyshelf/internal/remote/name"
	"cozyshelf/internal/secret"
)

// OpenName makes what keeps the household's name right; false where nothing does.
func (s *Server) OpenName() bool {
	from, host := s.Settings.RemoteName, household.HostOf(s.Settings.RemoteAddress)
	if from == nil || host == "" {
		return false
	}
	file := filepath.Join(s.Settings.State, layout.Secrets)
	s.name.Store(name.New(name.Options{Host: host, From: *from, Memory: s.Store, Log: s.Log, Tell: s.Events.Tell,
		Secret: func() (string, error) {
			if !from.NeedsSecret() {
				return "", nil
			}
			return secret.Given(file, layout.SecretOfName)
		}}))
	return true
}

// KeepName keeps the name right until the context ends.
func (s *Server) KeepName(ctx context.Context) { s.name.Load().Run(ctx) }

// NameReport tells how it is with the household's name; nil where nothing looks after it.
func (s *Server) NameReport() *line.Report {
	k := s.name.Load()
	if k == nil {
		return nil
	}
	r := k.Report()
	return &r
}

// LookAtName has the name looked at soon, and reports whether something looks after it.
func (s *Server) LookAtName() bool {
	k := s.name.Load()
	if k != nil {
		k.Kick()
	}
	return k != nil
}
