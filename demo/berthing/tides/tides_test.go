package tides

import (
	"math"
	"testing"
	"time"
)

var start = time.Date(2031, 3, 1, 0, 0, 0, 0, time.UTC)

func TestApplyCorrectsTheCoveredStretch(t *testing.T) {
	book := &Book{}
	for i := range 6 {
		book.Add("Skerry Gut", start.Add(time.Duration(i)*Step), 2)
	}
	book.Apply(Notice{Station: "Skerry Gut", From: start.Add(Step), To: start.Add(3 * Step), PressureHectopascal: 993.25})
	for i, want := range []float64{2, 2.2, 2.2, 2.2, 2, 2} {
		p, err := book.At("Skerry Gut", start.Add(time.Duration(i)*Step+time.Minute))
		if err != nil || math.Abs(p.HeightMetres-want) > 1e-9 {
			t.Errorf("step %d: got %v, %v; want %.1f m", i, p, err, want)
		}
	}
}

func TestAtRefusesWhatTheBookDoesNotHold(t *testing.T) {
	book := &Book{}
	if _, err := book.At("Gannet Bar", start); err == nil {
		t.Error("an empty page gave a prediction")
	}
	book.Add("Gannet Bar", start, 1)
	if _, err := book.At("Gannet Bar", start.Add(time.Hour)); err == nil {
		t.Error("a time after the page's end gave a prediction")
	}
}
