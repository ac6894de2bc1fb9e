package notify

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"net/url"
	"slices"
	"strconv"
	"sync"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/notice"

	"github.com/eclipse/paho.golang/autopaho"
	"github.com/eclipse/paho.golang/paho"
)

// Figures is what a broker is told of how the house is.
type Figures struct {
	Streams, Away int    // that are running, and how many of them outside the home
	Watching      string // who watches what
	Members       int
	Titles        int
	Free          int64 // bytes, where the state folder lies
}

// property is one value under the Homie convention 5.
type property struct {
	node, id, name, kind, unit string
	value                      func(Figures) string
}

// properties are the values that a broker keeps. What happens is one more, which it does not keep.
var properties = []property{
	{"now", "streams", "Streams", "integer", "", func(f Figures) string { return strconv.Itoa(f.Streams) }},
	{"now", "away", "Streams away", "integer", "", func(f Figures) string { return strconv.Itoa(f.Away) }},
	{"now", "watching", "Who watches what", "string", "", func(f Figures) string { return f.Watching }},
	{"house", "members", "Members", "integer", "", func(f Figures) string { return strconv.Itoa(f.Members) }},
	{"house", "titles", "Titles", "integer", "", func(f Figures) string { return strconv.Itoa(f.Titles) }},
	{"house", "free", "Free for the state", "integer", "B", func(f Figures) string { return fmt.Sprint(f.Free) }},
}

var nodes = map[string]string{"now": "Now", "house": "House", "notices": "Notices"}

// asked are the properties that a receiver is told. Who watches what is nobody's business who has not asked for it.
func asked(r household.Notice) []property {
	return slices.DeleteFunc(slices.Clone(properties), func(p property) bool {
		return p.id == "watching" && !slices.Contains(r.Events, string(event.CodePlayBegan))
	})
}

// description describes our device as the convention has it.
func description(house string, r household.Notice) []byte {
	type described struct {
		Name     string `json:"name"`
		Datatype string `json:"datatype"`
		Unit     string `json:"unit,omitempty"`
		Retained bool   `json:"retained"`
	}
	type node struct {
		Name       string               `json:"name"`
		Properties map[string]described `json:"properties"`
	}
	out := struct {
		Homie   string          `json:"homie"`
		Version uint32          `json:"version"`
		Name    string          `json:"name"`
		Nodes   map[string]node `json:"nodes"`
	}{"5.0", 0, house, map[string]node{}}
	for id, name := range nodes {
		out.Nodes[id] = node{name, map[string]described{}}
	}
	for _, p := range asked(r) {
		out.Nodes[p.node].Properties[p.id] = described{p.name, p.kind, p.unit, true}
	}
	out.Nodes["notices"].Properties["event"] = described{Name: "What happens", Datatype: "json"}
	write := func() []byte {
		b, err := json.Marshal(out)
		if err != nil {
			panic(err) // it is made of texts alone
		}
		return b
	}
	out.Version = crc32.ChecksumIEEE(write()) // which changes whenever the rest does
	return write()
}

// broker is a connection to an MQTT broker, which is made again when it breaks.
type broker struct {
	k    *Keeper
	r    household.Notice
	root string // of our topics

	changed chan struct{} // somebody began or ended watching

	mu      sync.Mutex
	cm      *autopaho.ConnectionManager
	problem error             // of the last try to connect
	said    map[string]string // what the broker keeps, by topic
}

// How a broker is spoken to.
const (
	keepAlive    = 30 // seconds
	figuresEvery = 5 * time.Second
	atLeastOnce  = 1

	badUserOrPassword, notAuthorized = 0x86, 0x87 // reason codes
)

// connect keeps a connection to a broker until the context ends, and tells it how the house is.
func (b *broker) connect(ctx context.Context) {
	for ctx.Err() == nil {
		cm, err := b.open(context.WithoutCancel(ctx)) // it outlives the context, to say that we leave
		if err == nil {
			b.mu.Lock()
			b.cm = cm
			b.mu.Unlock()
			b.report(ctx, cm)
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
			_ = b.say(last, cm, "$state", "disconnected") // else its last will says so
			_ = cm.Disconnect(last)
			cancel()
			return
		}
		b.failed(err)
		select {
		case <-ctx.Done():
		case <-time.After(notice.Pause(3, 0)):
		}
	}
}

func (b *broker) failed(err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.problem = err
}

// open begins to connect.
func (b *broker) open(ctx context.Context) (*autopaho.ConnectionManager, error) {
	u, err := url.Parse(b.r.Address)
	if err != nil {
		return nil, err
	}
	secret := ""
	if b.r.User != "" {
		if secret, err = b.k.secret(b.r); err != nil {
			return nil, err
		}
	}
	c := autopaho.ClientConfig{ServerUrls: []*url.URL{u}, KeepAlive: keepAlive, CleanStartOnInitialConnection: true,
		TlsCfg:           &tls.Config{ServerName: u.Hostname(), RootCAs: b.k.Roots},
		ReconnectBackoff: func(n int) time.Duration { return min(time.Second<<min(n, 6), time.Minute) },
		ConnectTimeout:   patience, ConnectUsername: b.r.User, ConnectPassword: []byte(secret),
		WillMessage: &paho.WillMessage{Topic: b.root + "$state", Payload: []byte("lost"), QoS: atLeastOnce, Retain: true},
		OnConnectionUp: func(*autopaho.ConnectionManager, *paho.Connack) {
			b.mu.Lock()
			defer b.mu.Unlock()
			b.said, b.problem = nil, nil
			b.k.kick(b.r.Name)
		},
		OnConnectError: b.failed,
	}
	c.ClientID = "cozyshelf-" + b.k.ID
	return autopaho.NewConnection(ctx, c)
}

// report tells the broker how the house is: all of it on a new connection, then what changes.
func (b *broker) report(ctx context.Context, cm *autopaho.ConnectionManager) {
	for {
		if cm.AwaitConnection(ctx) != nil {
			return
		}
		if err := b.tell(ctx, cm); err != nil && ctx.Err() == nil {
			b.failed(err)
		}
		select {
		case <-ctx.Done():
			return
		case <-b.changed:
		case <-time.After(figuresEvery):
		}
	}
}

func (b *broker) tell(ctx context.Context, cm *autopaho.ConnectionManager) error {
	b.mu.Lock()
	fresh := b.said == nil
	if fresh {
		b.said = map[string]string{}
	}
	b.mu.Unlock()
	if fresh {
		if err := errors.Join(b.say(ctx, cm, "$state", "init"),
			b.say(ctx, cm, "$description", string(description(b.k.House, b.r)))); err != nil {
			return err
		}
	}
	f, err := b.k.Figures(ctx)
	if err != nil {
		return err
	}
	for _, p := range asked(b.r) {
		if err := b.say(ctx, cm, p.node+"/"+p.id, p.value(f)); err != nil {
			return err
		}
	}
	return b.say(ctx, cm, "$state", "ready")
}

// say has the broker keep a value, unless it does already.
func (b *broker) say(ctx context.Context, cm *autopaho.ConnectionManager, topic, value string) error {
	b.mu.Lock()
	known, is := b.said[topic]
	b.mu.Unlock()
	if is && known == value {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	_, err := cm.Publish(ctx, &paho.Publish{Topic: b.root + topic, QoS: atLeastOnce, Retain: true, Payload: []byte(value)})
	b.mu.Lock()
	defer b.mu.Unlock()
	if err == nil && b.said != nil {
		b.said[topic] = value
	}
	return err
}

// mqtt tells a broker what happened.
func (k *Keeper) mqtt(ctx context.Context, to household.Notice, _ string, list []notice.Notice) error {
	b := k.brokers[to.Name]
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	cm, err := b.connected(ctx)
	if err != nil {
		return err
	}
	for _, n := range list {
		text, err := json.Marshal(Event(k.Source, n))
		if err != nil {
			return err
		}
		res, err := cm.Publish(ctx, &paho.Publish{Topic: b.root + "notices/event", QoS: atLeastOnce, Payload: text})
		if err != nil {
			return plainly(err)
		}
		if res != nil && res.ReasonCode >= 0x80 {
			return fmt.Errorf("the broker refuses it, by the reason code %d", res.ReasonCode)
		}
	}
	return nil
}

// connected waits for the connection, as long as nothing is known that keeps it from being made.
func (b *broker) connected(ctx context.Context) (*autopaho.ConnectionManager, error) {
	for {
		b.mu.Lock()
		cm, problem := b.cm, b.problem
		b.mu.Unlock()
		var denied *autopaho.ConnackError
		switch {
		case errors.As(problem, &denied) && (denied.ReasonCode == badUserOrPassword || denied.ReasonCode == notAuthorized):
			return nil, errors.New("the broker does not take the user and the password")
		case errors.As(problem, &denied):
			return nil, fmt.Errorf("the broker refuses the connection, by the reason code %d", denied.ReasonCode)
		case problem != nil:
			return nil, plainly(problem)
		case cm != nil:
			soon, cancel := context.WithTimeout(ctx, 100*time.Millisecond)
			err := cm.AwaitConnection(soon)
			cancel()
			if err == nil {
				return cm, nil
			}
		}
		select {
		case <-ctx.Done():
			return nil, errors.New("the broker does not answer")
		case <-time.After(20 * time.Millisecond):
		}
	}
}
