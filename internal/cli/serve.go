package cli

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"runtime/debug"
	"runtime/metrics"
	"syscall"
	"time"
	_ "time/tzdata" // the container has no zone files

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/engine/process"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server"
	"cozyshelf/internal/storework"
	"cozyshelf/internal/syslog"

	"github.com/spf13/cobra"
	_ "golang.org/x/crypto/x509roots/fallback" // nor certificates
)

func (a *app) serveCommand() *cobra.Command {
	var settings string
	c := &cobra.Command{
		Use: "serve --settings FILE", Short: "The server itself: what runs in the container", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			// Root without a container around it is no more here than inside one.
			if err := machine.DropPowers(); err != nil {
				return &problem.Problem{What: "the server could not give its powers up", Why: err.Error(),
					Fix: "run it as an account of its own"}
			}
			s, err := server.ReadSettings(settings)
			if err != nil {
				return &problem.Problem{What: "the settings cannot be read", Where: settings, Why: err.Error(),
					Fix: "cozyshelf deploy writes them"}
			}
			log, leave := logger(s)
			defer leave()
			syscall.Umask(int(s.Umask))
			ctx, stop := signal.NotifyContext(c.Context(), syscall.SIGTERM, syscall.SIGINT)
			defer stop()
			if os.Getenv("GOGC") == "" { // which says otherwise
				go collect(ctx)
			}
			if err := server.New(s, a.version, log).Run(ctx); err != nil {
				return &problem.Problem{What: "the server ended", Why: err.Error(),
					Fix: "cozyshelf check shows what stands in the way"}
			}
			log.Info("ended")
			return nil
		},
	}
	c.Flags().StringVar(&settings, "settings", "", "the settings file that deploy wrote")
	if err := c.MarkFlagRequired("settings"); err != nil {
		panic(err) // the flag is made above
	}
	return c
}

// logger writes the server's log as its settings say. leave ends it.
func logger(s blueprint.Settings) (log *slog.Logger, leave func()) {
	var level slog.Level
	if level.UnmarshalText([]byte(s.LogLevel)) != nil {
		level = slog.LevelInfo
	}
	o := &slog.HandlerOptions{Level: level, ReplaceAttr: func(groups []string, at slog.Attr) slog.Attr {
		if len(groups) == 0 && at.Key == slog.TimeKey {
			return slog.Attr{} // the engine puts the time in front of each line
		}
		return at
	}}
	var h slog.Handler = slog.NewTextHandler(os.Stderr, o)
	if s.LogFormat == "json" {
		h = slog.NewJSONHandler(os.Stderr, o)
	}
	if s.Syslog == "" {
		return slog.New(h), func() {}
	}
	c, err := syslog.Open(s.Syslog, nil)
	if err != nil {
		log = slog.New(h)
		log.Error("the log cannot be sent to the collector", "collector", s.Syslog, "why", err)
		return log, func() {}
	}
	return slog.New(slog.NewMultiHandler(h, c.Handler(level))), c.Close
}

func (a *app) superviseCommand() *cobra.Command {
	var boot bool
	c := &cobra.Command{
		Use: "supervise FOLDER", Short: "Keep a server running (the process engine uses it)", Hidden: true,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error { return process.Supervise(args[0], boot) },
	}
	c.Flags().BoolVar(&boot, "boot", false, "the machine starts: do nothing where somebody has stopped the server")
	return c
}

func (a *app) lookCommand() *cobra.Command {
	return &cobra.Command{
		Use: "look FOLDER", Short: "Say why a folder cannot be used, or nothing (this program uses it)", Hidden: true,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			_, err := os.Stdout.WriteString(machine.LookHere(args[0]))
			return err
		},
	}
}

func (a *app) healthcheckCommand() *cobra.Command {
	state := blueprint.StateInside
	c := &cobra.Command{
		Use: "healthcheck", Short: "Ask the server whether it is ready (the engine uses it)", Hidden: true,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx, cancel := context.WithTimeout(c.Context(), 4*time.Second)
			defer cancel()
			return control.At(state).Health(ctx)
		},
	}
	c.Flags().StringVar(&state, "state", state, "the state folder")
	return c
}

func (a *app) relayCommand() *cobra.Command {
	state := blueprint.StateInside
	c := &cobra.Command{
		Use: "relay", Short: "Connect standard input and output to the control socket (the tool uses it)",
		Hidden: true, Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			conn, err := control.Dialed(c.Context(), state)
			if err != nil {
				return err
			}
			defer conn.Close()
			go func() {
				_, _ = io.Copy(conn, os.Stdin) // the answer tells what came of it
				_ = conn.(*net.UnixConn).CloseWrite()
			}()
			if _, err := io.Copy(os.Stdout, conn); err != nil && !errors.Is(err, net.ErrClosed) {
				return err
			}
			return nil
		},
	}
	c.Flags().StringVar(&state, "state", state, "the state folder")
	return c
}

// collect has memory collected so that a small machine is left to others, and little time
// is lost to that: whenever 16 MiB are waste, but no more often than for twice, and no
// more seldom than for 40 % of what is in use.
func collect(ctx context.Context) {
	const waste = 16 << 20
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	for {
		metrics.Read(live)
		debug.SetGCPercent(int(min(200, max(40, waste*100/max(1, live[0].Value.Uint64())))))
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
	}
}

// storeWorkCommand is the child that looks into a store for root.
func (a *app) storeWorkCommand() *cobra.Command {
	return &cobra.Command{
		Use: storework.Command, Hidden: true, Args: cobra.ArbitraryArgs, DisableFlagParsing: true,
		RunE: func(c *cobra.Command, args []string) error { return storework.Main(c.Context(), args, os.Stdout) },
	}
}
