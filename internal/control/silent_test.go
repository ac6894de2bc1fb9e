package control

import (
	"context"
	"errors"
	"net"
	"testing"
	"time"
)

// TestWhoeverNeverAnswersHoldsNobody asks a socket that takes connections and says nothing.
func TestWhoeverNeverAnswersHoldsNobody(t *testing.T) {
	near, far := net.Pipe()
	defer near.Close()
	defer far.Close()
	go func() { // it reads the question
		b := make([]byte, 4096)
		for {
			if _, err := far.Read(b); err != nil {
				return
			}
		}
	}()
	c := Through("here", func(context.Context) (net.Conn, error) { return near, nil })
	began := time.Now()
	_, err := ask[Status](context.Background(), c, 100*time.Millisecond, "GET", "/control/v1/status", nil)
	if !errors.Is(err, ErrUnreachable) || !errors.Is(err, errSilent) || time.Since(began) > 5*time.Second {
		t.Errorf("after %s: %v", time.Since(began), err)
	}
}
