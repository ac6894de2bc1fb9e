package usage

import (
	"net/url"
	"reflect"
	"testing"
	"time"
)

func TestFiltersAreWrittenAndRead(t *testing.T) {
	yes := true
	at := time.Date(2026, 11, 1, 2, 3, 4, 5000, time.UTC)
	for _, f := range []Filter{{}, {Member: "wren & co", Title: "a=b", Shelf: "films", Device: "kitchen tablet",
		Delivery: "repacked",
		Where:    Away, Finished: &yes, Since: at, Until: at.AddDate(0, 1, 0), After: 7, Open: true, Limit: 3},
		{Finished: new(bool), Where: AtHome}} {
		q, err := url.ParseQuery(f.Query().Encode())
		if err != nil {
			t.Fatal(err)
		}
		if got, err := ReadFilter(q); err != nil || !reflect.DeepEqual(got, f) {
			t.Errorf("%+v, %v; want %+v", got, err, f)
		}
	}
	for _, text := range []string{"since=yesterday", "until=x", "finished=perhaps", "after=x", "limit=-1", "limit=x",
		"where=outside",
		"delivery=copied"} {
		q, err := url.ParseQuery(text)
		if err != nil {
			t.Fatal(err)
		}
		if f, err := ReadFilter(q); err == nil {
			t.Errorf("%s: %+v", text, f)
		}
	}
}
