package standin

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/eclipse/paho.golang/packets"
)

// Broker is a small MQTT 5 broker: it takes what one or a few clients publish, and keeps what is to be kept. Nobody
// subscribes; what it keeps is asked of it here. The real one of the tests is Mosquitto.
type Broker struct {
	l    net.Listener
	all  sync.WaitGroup
	mu   sync.Mutex
	kept map[string]string // by topic
	open map[net.Conn]bool
}

// Bounds of a broker.
const (
	mostPacket  = 64 << 10 // bytes
	mostClients = 8
	mostTopics  = 1000
	clientIdle  = 90 * time.Second
)

// NewBroker takes connections until it is closed.
func NewBroker(l net.Listener) *Broker {
	b := &Broker{l: l, kept: map[string]string{}, open: map[net.Conn]bool{}}
	b.all.Go(b.accept)
	return b
}

// Close ends all connections, and waits for their end.
func (b *Broker) Close() {
	b.l.Close()
	b.mu.Lock()
	for c := range b.open {
		c.Close()
	}
	b.mu.Unlock()
	b.all.Wait()
}

// Kept gives what is kept of the topic that ends in some way; nothing where there is none.
func (b *Broker) Kept(end string) (topic, value string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for topic, value := range b.kept {
		if strings.HasSuffix(topic, end) {
			return topic, value
		}
	}
	return "", ""
}

func (b *Broker) accept() {
	for {
		c, err := b.l.Accept()
		if err != nil {
			return
		}
		b.mu.Lock()
		taken := len(b.open) < mostClients
		if taken {
			b.open[c] = true
		}
		b.mu.Unlock()
		if !taken {
			c.Close()
			continue
		}
		b.all.Go(func() {
			_ = b.serve(c) // who breaks the rules is let go
			c.Close()
			b.mu.Lock()
			delete(b.open, c)
			b.mu.Unlock()
		})
	}
}

// next reads a packet, unless it is larger than a client of ours sends.
func next(c net.Conn, r *bufio.Reader) (*packets.ControlPacket, error) {
	if err := c.SetReadDeadline(time.Now().Add(clientIdle)); err != nil {
		return nil, err
	}
	// Its length stands in the second byte and those after it.
	for n := 2; ; n++ {
		head, err := r.Peek(n)
		if err != nil {
			return nil, err
		}
		if head[n-1] < 0x80 {
			if size, _ := binary.Uvarint(head[1:]); size > mostPacket {
				return nil, fmt.Errorf("a packet of %d bytes", size)
			}
			return packets.ReadPacket(r)
		}
		if n == 5 {
			return nil, io.ErrUnexpectedEOF
		}
	}
}

func (b *Broker) serve(c net.Conn) error {
	r := bufio.NewReader(c)
	if err := c.SetReadDeadline(time.Now().Add(clientIdle)); err != nil {
		return err
	}
	if head, err := r.Peek(1); err != nil || head[0]>>4 != packets.CONNECT {
		return errors.Join(err, errors.New("the first packet is not the one that connects"))
	}
	p, err := next(c, r)
	if err != nil {
		return err
	}
	connect := p.Content.(*packets.Connect)
	reply := func(p io.WriterTo) error {
		if err := c.SetWriteDeadline(time.Now().Add(clientIdle)); err != nil {
			return err
		}
		_, err := p.WriteTo(c)
		return err
	}
	if err := reply(&packets.Connack{Properties: &packets.Properties{}}); err != nil {
		return err
	}
	left := false
	defer func() {
		if !left && connect.WillFlag {
			b.keep(connect.WillTopic, string(connect.WillMessage), connect.WillRetain)
		}
	}()
	for {
		if p, err = next(c, r); err != nil {
			return err
		}
		switch p := p.Content.(type) {
		case *packets.Publish:
			b.keep(p.Topic, string(p.Payload), p.Retain)
			if p.QoS == 1 {
				err = reply(&packets.Puback{PacketID: p.PacketID, Properties: &packets.Properties{}})
			}
		case *packets.Pingreq:
			err = reply(&packets.Pingresp{})
		case *packets.Disconnect:
			left = true
			return nil
		default:
			return errors.New("a packet of a sort that is not spoken here")
		}
		if err != nil {
			return err
		}
	}
}

func (b *Broker) keep(topic, value string, retain bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if _, known := b.kept[topic]; retain && (known || len(b.kept) < mostTopics) {
		b.kept[topic] = value
	}
}
