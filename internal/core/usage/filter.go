package usage

import (
	"fmt"
	"net/url"
	"strconv"
	"time"
)

// Filter chooses plays. Zero fields leave all in.
type Filter struct {
	Member   string    // who watched, also along
	Title    string    // in whose name it stands, in any case of letters
	Shelf    string    // of this shelf
	Kind     string    // of shelves of this kind; Shelves are those
	Shelves  []string  // for who chooses by kind, filled in where the shelves are known
	Device   string    // in whose name it stands
	Delivery string    // as-it-is, repacked or converted
	Where    Where     // home or away
	Finished *bool     // seen to the end, or not
	Since    time.Time // seen then or later
	Until    time.Time // begun before
	After    int64     // the number of a play: only those that come after it in the list
	Open     bool      // only streams that are running
	Limit    int       // 0 for all
}

// Rolled reports whether figures of what a filter chooses are made of the sums that are kept: where it bounds only the
// time, and the member.
func (f Filter) Rolled() bool {
	return f.Title == "" && f.Shelf == "" && f.Kind == "" && f.Device == "" && f.Delivery == "" && f.Where == "" &&
		f.Finished == nil &&
		f.After == 0 && !f.Open && f.Limit == 0
}

// Where is where somebody watched.
type Where string

// The places.
const (
	AtHome Where = "home"
	Away   Where = "away"
)

// Deliveries are the ways in which a play is delivered.
var Deliveries = []string{"as-it-is", "repacked", "converted"}

// Query writes a filter as ReadFilter reads it.
func (f Filter) Query() url.Values {
	q := url.Values{}
	set := func(key, value string) {
		if value != "" {
			q.Set(key, value)
		}
	}
	set("member", f.Member)
	set("title", f.Title)
	set("shelf", f.Shelf)
	set("kind", f.Kind)
	set("device", f.Device)
	set("delivery", f.Delivery)
	set("where", string(f.Where))
	if f.Finished != nil {
		set("finished", strconv.FormatBool(*f.Finished))
	}
	for key, t := range map[string]time.Time{"since": f.Since, "until": f.Until} {
		if !t.IsZero() {
			set(key, t.Format(time.RFC3339Nano))
		}
	}
	if f.After != 0 {
		set("after", strconv.FormatInt(f.After, 10))
	}
	if f.Open {
		set("now", "true")
	}
	if f.Limit != 0 {
		set("limit", strconv.Itoa(f.Limit))
	}
	return q
}

// ReadFilter reads a filter.
func ReadFilter(q url.Values) (Filter, error) {
	f := Filter{Member: q.Get("member"), Title: q.Get("title"), Shelf: q.Get("shelf"), Kind: q.Get("kind"),
		Device: q.Get("device"), Delivery: q.Get("delivery"), Where: Where(q.Get("where")),
		Open: q.Get("now") == "true"}
	var err error
	read := func(key string, do func(text string) error) {
		text := q.Get(key)
		if text == "" || err != nil {
			return
		}
		if e := do(text); e != nil {
			err = fmt.Errorf("%s cannot be read: %w", key, e)
		}
	}
	moment := func(to *time.Time) func(string) error {
		return func(text string) (err error) {
			*to, err = time.Parse(time.RFC3339, text)
			return err
		}
	}
	read("since", moment(&f.Since))
	read("until", moment(&f.Until))
	read("finished", func(text string) error {
		b, err := strconv.ParseBool(text)
		f.Finished = &b
		return err
	})
	read("after", func(text string) (err error) {
		f.After, err = strconv.ParseInt(text, 10, 64)
		return err
	})
	read("limit", func(text string) (err error) {
		if f.Limit, err = strconv.Atoi(text); err == nil && f.Limit < 0 {
			err = fmt.Errorf("%d is less than none", f.Limit)
		}
		return err
	})
	if err == nil {
		err = f.check()
	}
	return f, err
}

// check refuses what is none of the words.
func (f Filter) check() error {
	if f.Where != "" && f.Where != AtHome && f.Where != Away {
		return fmt.Errorf("where is home or away, not %q", f.Where)
	}
	for _, d := range Deliveries {
		if d == f.Delivery || f.Delivery == "" {
			return nil
		}
	}
	return fmt.Errorf("delivery is as-it-is, repacked or converted, not %q", f.Delivery)
}
