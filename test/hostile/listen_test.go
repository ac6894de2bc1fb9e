package hostile

import (
	"net"
	"sync/atomic"
)

// netListen is a socket that counts who connects.
type netListen struct {
	net.Listener
	n atomic.Int64
}

func (l *netListen) listen(path string) (*netListen, error) {
	var err error
	if l.Listener, err = net.Listen("unix", path); err != nil {
		return nil, err
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			l.n.Add(1)
			c.Close()
		}
	}()
	return l, nil
}

func (l *netListen) asked() int64 { return l.n.Load() }
