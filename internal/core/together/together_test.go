package together

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

var noon = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

func TestWhatOneDoesAllDo(t *testing.T) {
	var r Rooms
	if err := r.Open(noon, "a", 7, 100, "wren"); err != nil {
		t.Fatal(err)
	}
	first, leaveFirst, err := r.Join(noon, "a", 1, "wren")
	if err != nil {
		t.Fatal(err)
	}
	second, leaveSecond, err := r.Join(noon, "a", 2, "ilse")
	if err != nil {
		t.Fatal(err)
	}
	told := func(c <-chan struct{}) bool {
		select {
		case <-c:
			return true
		default:
			return false
		}
	}
	told(first)
	told(second)
	s, err := r.Do(noon, "a", true, 10, "wren")
	if err != nil || !s.Playing || s.Change != 1 || s.By != "wren" || !told(first) || !told(second) {
		t.Errorf("%+v, %v", s, err)
	}
	if at := s.Now(noon.Add(5*time.Second), 100); at != 15 {
		t.Errorf("after five seconds: %v", at)
	}
	if at := s.Now(noon.Add(time.Hour), 100); at != 100 {
		t.Errorf("after an hour: %v", at)
	}
	// One that follows says the same, and nothing changes.
	if s, _ := r.Do(noon.Add(5*time.Second), "a", true, 15.1, "ilse"); s.Change != 1 || told(first) {
		t.Errorf("an echo changes it: %+v", s)
	}
	if s, _ := r.Do(noon.Add(5*time.Second), "a", false, 15, "ilse"); s.Change != 2 || s.Playing || s.By != "ilse" ||
		!told(first) {
		t.Errorf("a pause: %+v", s)
	}
	if s, names, err := r.State("a"); err != nil || s.Now(noon.Add(time.Minute), 100) != 15 ||
		fmt.Sprint(names) != "[ilse wren]" {
		t.Errorf("%+v %v %v", s, names, err)
	}
	if s, _ := r.Do(noon, "a", false, 1e9, "x"); s.Position != 100 {
		t.Errorf("beyond the end: %+v", s)
	}
	told(first)
	leaveSecond()
	if _, names, _ := r.State("a"); fmt.Sprint(names) != "[wren]" || !told(first) {
		t.Errorf("after one has left: %v", names)
	}
	// A device that comes again before its connection was noticed to be gone stays one.
	_, leaveAgain, err := r.Join(noon, "a", 1, "wren")
	if err != nil {
		t.Fatal(err)
	}
	leaveFirst()
	if _, names, _ := r.State("a"); fmt.Sprint(names) != "[wren]" {
		t.Errorf("it came again, and is gone: %v", names)
	}
	leaveAgain()
	if _, names, _ := r.State("a"); len(names) != 0 {
		t.Errorf("all have left: %v", names)
	}
}

func TestRoomsAreBounded(t *testing.T) {
	var r Rooms
	for i := range 3 * mostRooms {
		err := r.Open(noon, fmt.Sprint(i), 1, 0, fmt.Sprint("member ", i))
		if (err == nil) != (i < mostRooms) || err != nil && !errors.Is(err, ErrFull) {
			t.Errorf("room %d: %v", i, err)
		}
	}
	for i := range int64(3 * mostMembers) {
		if _, _, err := r.Join(noon, "0", i, "x"); (err == nil) != (i < mostMembers) {
			t.Errorf("device %d: %v", i, err)
		}
	}
	for i := range 3 * mostLines {
		if _, _, err := r.Join(noon, "1", 1, "x"); (err == nil) != (i < mostLines) {
			t.Errorf("connection %d: %v", i, err)
		}
	}
	// Who opens many has the latest ones.
	var own Rooms
	for i := range 3 * mostOfOne {
		if err := own.Open(noon.Add(time.Duration(i)*time.Second), fmt.Sprint(i), 1, 0, "wren"); err != nil {
			t.Errorf("room %d of one member: %v", i, err)
		}
	}
	if len(own.of) != mostOfOne || own.of[fmt.Sprint(3*mostOfOne-1)] == nil || own.of["0"] != nil {
		t.Errorf("%d rooms of one member", len(own.of))
	}
	if err := r.Open(noon.Add(idle+time.Second), "late", 1, 0, ""); err != nil {
		t.Errorf("after all were idle: %v", err)
	}
	for _, err := range []error{func() error { _, _, err := r.State("0"); return err }(),
		func() error { _, err := r.Do(noon, "0", true, 0, ""); return err }(),
		func() error { _, _, err := r.Join(noon, "0", 1, ""); return err }()} {
		if !errors.Is(err, ErrGone) {
			t.Errorf("an idle room: %v", err)
		}
	}
}

// TestDevicesCatchUp has devices with clocks that are wrong by a little follow a room, and holds them to half a
// second, and to an unnoticeable difference after a while.
func TestDevicesCatchUp(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 16))
	for range 200 {
		theirs, mine := 100.0, 100+(rnd.Float64()-0.5)*20
		drift := 1 + (rnd.Float64()-0.5)*0.002 // a device's clock
		jumps := 0
		for step := range 600 { // of a tenth of a second
			c := Correct(mine, theirs)
			if c.Jump {
				mine = theirs
				jumps++
			}
			if c.Speed < 0.9 || c.Speed > 1.1 {
				t.Fatalf("it plays at %v", c.Speed)
			}
			theirs += 0.1
			mine += 0.1 * c.Speed * drift
			if off := math.Abs(mine - theirs); step > 400 && off > 0.1 {
				t.Fatalf("after %d steps it is off by %v", step, off)
			}
		}
		if jumps > 1 {
			t.Errorf("%d jumps", jumps)
		}
	}
}
