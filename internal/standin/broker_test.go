package standin

import (
	"context"
	"net"
	"net/url"
	"testing"
	"time"

	"github.com/eclipse/paho.golang/autopaho"
	"github.com/eclipse/paho.golang/paho"
)

func TestABrokerKeepsWhatIsToBeKept(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	b := NewBroker(l)
	defer b.Close()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	cm, err := autopaho.NewConnection(ctx, autopaho.ClientConfig{
		ServerUrls: []*url.URL{{Scheme: "mqtt", Host: l.Addr().String()}}, KeepAlive: 30,
		WillMessage:  &paho.WillMessage{Topic: "mill/$state", Payload: []byte("lost"), Retain: true},
		ClientConfig: paho.ClientConfig{ClientID: "mill"}})
	if err == nil {
		err = cm.AwaitConnection(ctx)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range []paho.Publish{{Topic: "mill/$state", Payload: []byte("ready"), QoS: 1, Retain: true},
		{Topic: "mill/streams", Payload: []byte("1"), QoS: 1, Retain: true},
		{Topic: "mill/streams", Payload: []byte("2"), QoS: 1, Retain: true}, {Topic: "mill/event",
			Payload: []byte("x"), QoS: 1}} {
		if _, err := cm.Publish(ctx, &p); err != nil {
			t.Fatal(err)
		}
	}
	kept := func(end string) string {
		_, value := b.Kept(end)
		return value
	}
	if kept("/streams") != "2" || kept("mill/$state") != "ready" || kept("mill/event") != "" {
		t.Errorf("%v", b.kept)
	}
	// Who breaks the rules is let go, and nobody else.
	for _, bad := range []string{"\x30\x03\x00\x01a", "\x10\xff\xff\xff\x7f", "\x10\xff\xff\xff\xff\xff\xff",
		"GET / HTTP/1.1\r\n\r\n"} {
		c, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		if err := c.SetDeadline(time.Now().Add(20 * time.Second)); err != nil {
			t.Fatal(err)
		}
		if _, err := c.Write([]byte(bad)); err != nil {
			t.Fatal(err)
		}
		if _, err := c.Read(make([]byte, 1)); err == nil || isTimeout(err) {
			t.Errorf("%q: %v", bad, err)
		}
		c.Close()
	}
	if err := cm.Disconnect(ctx); err != nil {
		t.Fatal(err)
	}
	if kept("mill/$state") != "ready" { // it took its leave
		t.Errorf("%v", b.kept)
	}
}

func isTimeout(err error) bool {
	e, ok := err.(net.Error)
	return ok && e.Timeout()
}
