// Package server is the server itself: it opens the store and the shelves, and
// answers on two doors. The published port serves pages and the API under
// /api/v1 to members who have signed in. The control socket serves the
// administrator's tool, which needs no sign-in: the socket's mode is the key.
//
// Here it is only put together: package live holds what all share, and packages api, web and
// admin answer. Listeners come from the settings, jobs from a list; what happens is told as
// events (package event), of which the log is one observer.
package server

import (
	"context"
	"log/slog"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/server/admin"
	"cozyshelf/internal/server/api"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/server/web"
)

// Server is one server. Make it with Open.
type Server struct {
	*live.Server
	api   *api.API
	web   *web.Web
	admin *admin.Admin
}

// ReadSettings reads the settings file that a deployment wrote.
func ReadSettings(path string) (blueprint.Settings, error) { return live.ReadSettings(path) }

// New makes a server. Its store is opened by Run.
func New(s blueprint.Settings, version string, log *slog.Logger) *Server {
	l := live.New(s, version, log)
	return &Server{Server: l, api: api.New(l), web: &web.Web{Server: l}, admin: &admin.Admin{Server: l}}
}

// Open makes a server and opens its store. Nothing is served yet.
func Open(ctx context.Context, s blueprint.Settings, version string, log *slog.Logger) (*Server, error) {
	srv := New(s, version, log)
	return srv, srv.OpenStore(ctx)
}
