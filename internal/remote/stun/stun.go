// Package stun asks servers outside from which address they see us (RFC 8489).
package stun

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"
)

// DefaultPort is where such servers listen.
const DefaultPort = "3478"

// Of a message: its kinds, the value that marks it, and what it holds.
const (
	binding  = 0x0001
	success  = 0x0101
	cookie   = 0x2112A442
	mapped   = 0x0020 // XOR-MAPPED-ADDRESS
	header   = 20
	mostSize = 1500
)

// ErrAnswer says that what came is no answer.
var ErrAnswer = errors.New("what came is no answer to the question")

// Question makes a question with an id of its own.
func Question() (question []byte, id [12]byte) {
	_, _ = rand.Read(id[:]) // it never fails
	question = binary.BigEndian.AppendUint16(nil, binding)
	question = binary.BigEndian.AppendUint16(question, 0)
	question = binary.BigEndian.AppendUint32(question, cookie)
	return append(question, id[:]...), id
}

// Answer reads from which address the question of an id was seen to come.
func Answer(b []byte, id [12]byte) (netip.Addr, error) {
	if len(b) < header || binary.BigEndian.Uint16(b) != success || binary.BigEndian.Uint32(b[4:]) != cookie ||
		[12]byte(b[8:header]) != id || int(binary.BigEndian.Uint16(b[2:])) != len(b)-header {
		return netip.Addr{}, ErrAnswer
	}
	for rest := b[header:]; len(rest) >= 4; {
		kind, size := binary.BigEndian.Uint16(rest), int(binary.BigEndian.Uint16(rest[2:]))
		if rest = rest[4:]; size > len(rest) {
			break
		}
		if kind == mapped {
			return address(rest[:size], b[4:header])
		}
		rest = rest[min((size+3)&^3, len(rest)):]
	}
	return netip.Addr{}, ErrAnswer
}

// address reads a mapped address, which is mixed with the cookie and the id.
func address(b, mix []byte) (netip.Addr, error) {
	if len(b) != 8 && len(b) != 20 || b[1] != 1 && b[1] != 2 || (b[1] == 1) != (len(b) == 8) {
		return netip.Addr{}, ErrAnswer
	}
	raw := make([]byte, len(b)-4)
	for i := range raw {
		raw[i] = b[4+i] ^ mix[i]
	}
	a, ok := netip.AddrFromSlice(raw)
	if !ok || a.Is4In6() {
		return netip.Addr{}, ErrAnswer
	}
	return a, nil
}

// pauses are how long an answer is waited for, try by try.
var pauses = []time.Duration{500 * time.Millisecond, time.Second, 2 * time.Second}

// Ask asks a server, host or host:port, over udp4 or udp6.
func Ask(ctx context.Context, network, server string) (netip.Addr, error) {
	a, err := ask(ctx, network, server)
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err // without addresses that say nothing
	}
	if err != nil {
		return a, fmt.Errorf("%s does not answer over %s: %w", server, map[string]string{"udp4": "IPv4",
			"udp6": "IPv6"}[network],
			err)
	}
	return a, nil
}

func ask(ctx context.Context, network, server string) (netip.Addr, error) {
	if _, _, err := net.SplitHostPort(server); err != nil {
		server = net.JoinHostPort(server, DefaultPort)
	}
	c, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, network, server)
	if err != nil {
		return netip.Addr{}, err
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { c.Close() })()
	question, id := Question()
	buffer := make([]byte, mostSize)
	for _, pause := range pauses {
		if _, err := c.Write(question); err != nil {
			return netip.Addr{}, err
		}
		if err := c.SetReadDeadline(time.Now().Add(pause)); err != nil {
			return netip.Addr{}, err
		}
		for {
			n, err := c.Read(buffer)
			var late net.Error
			if errors.As(err, &late) && late.Timeout() {
				break
			}
			if err != nil {
				return netip.Addr{}, err
			}
			if a, err := Answer(buffer[:n], id); err == nil { // whatever else comes is not for us
				return a, nil
			}
		}
	}
	return netip.Addr{}, errors.New("nothing came")
}
