package berth

import (
	"errors"
	"testing"
	"time"

	"berthing/arrivals"
	"berthing/tides"
)

func harbourWith(heightMetres float64) *Harbour {
	book := &tides.Book{}
	for _, station := range []string{"Skerry Gut", "Inner Ness", "Gannet Bar"} {
		book.Add(station, time.Date(2031, 3, 1, 0, 0, 0, 0, time.UTC), heightMetres)
	}
	return NewHarbour(book)
}

func TestShallowestQuayThatKeepsTheMargin(t *testing.T) {
	at := time.Date(2031, 3, 1, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		draught float64
		quay    string
	}{{1.0, "Old Salt Stage"}, {2.5, "Kelp Quay 1"}, {3.4, "Kelp Quay 3"}, {5.0, "Osprey Wall"}} {
		got, err := harbourWith(1).Assign(arrivals.Vessel{Name: "Two Sisters of Ness", Arrives: at, DraughtMetres: c.draught})
		if err != nil || got.Quay.Name != c.quay {
			t.Errorf("draught %.1f m: got %+v, %v; want %s", c.draught, got.Quay, err, c.quay)
		}
	}
}

func TestTooDeepIsTurnedAway(t *testing.T) {
	_, err := harbourWith(1).Assign(arrivals.Vessel{Name: "Morning Petrel", Arrives: time.Date(2031, 3, 1, 0, 0, 0, 0, time.UTC), DraughtMetres: 9})
	if !errors.Is(err, ErrNoWater) {
		t.Errorf("got %v", err)
	}
}
