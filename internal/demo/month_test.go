package demo

import (
	"reflect"
	"slices"
	"testing"
	"time"
)

func TestAMonthIsTheSameForTheSameSeed(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Riga")
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 11, 5, 9, 30, 0, 0, zone) // with the end of summer time
	a := Month(now, 7)
	if len(a) < 50 || len(a) > 150 || !reflect.DeepEqual(a, Month(now, 7)) || reflect.DeepEqual(a, Month(now, 8)) {
		t.Errorf("%d evenings", len(a))
	}
	for _, e := range a {
		end := e.Begins.Add(e.Lasts)
		if e.Lasts < 5*time.Minute || e.Lasts > 3*time.Hour || end.After(now) || now.Sub(e.Begins) > 31*24*time.Hour {
			t.Errorf("%+v", e)
		}
		if !slices.ContainsFunc(People, func(p Person) bool { return p.Name == e.Who }) {
			t.Errorf("%s is nobody", e.Who)
		}
		if e.Who == "bram" && (e.Begins.Hour() < 8 || e.Begins.Hour() > 18) {
			t.Errorf("bram watches at %s", e.Begins)
		}
	}
}
