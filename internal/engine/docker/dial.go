package docker

import (
	"context"
	"errors"
	"io"
	"net"
	"strings"

	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/client"
)

// Dial runs a command inside a container and connects to it.
func (e *Engine) Dial(ctx context.Context, id string, command ...string) (net.Conn, error) {
	made, err := e.api.ExecCreate(ctx, id,
		client.ExecCreateOptions{Cmd: command, AttachStdin: true, AttachStdout: true, AttachStderr: true})
	if err != nil {
		return nil, wrap(err)
	}
	att, err := e.api.ExecAttach(ctx, made.ID, client.ExecAttachOptions{})
	if err != nil {
		return nil, wrap(err)
	}
	r, w := io.Pipe()
	go func() {
		var said strings.Builder
		_, err := stdcopy.StdCopy(w, &said, att.Reader)
		if err == nil && said.Len() > 0 {
			err = errors.New(strings.TrimSpace(said.String()))
		}
		w.CloseWithError(err)
	}()
	return &execConn{att.Conn, r}, nil
}

// execConn writes to the command's standard input and reads its output.
type execConn struct {
	net.Conn
	out *io.PipeReader
}

func (c *execConn) Read(b []byte) (int, error) { return c.out.Read(b) }

func (c *execConn) Close() error {
	c.out.Close()
	return c.Conn.Close()
}
