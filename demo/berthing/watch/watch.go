// Package watch holds the berths that were given against what the tide gauges
// showed when the vessels lay there.
package watch

import (
	"encoding/csv"
	"fmt"
	"os"
	"strconv"
	"time"

	"berthing/berth"
)

// GroundingError says that a vessel had less water under her keel than is safe.
type GroundingError struct {
	Vessel          string
	Quay            string
	ReckonedMetres  float64
	MeasuredMetres  float64
	AllowanceMetres float64
}

func (e *GroundingError) Error() string {
	return fmt.Sprintf("%s at %s had %.2f m under her keel, %.2f m were reckoned, %.2f m are safe",
		e.Vessel, e.Quay, e.MeasuredMetres, e.ReckonedMetres, e.AllowanceMetres)
}

// Gauges holds measured heights by station and time.
type Gauges struct {
	heights map[reading]float64
}

type reading struct {
	station string
	at      time.Time
}

// AllowanceMetres is the least clearance that is safe once a vessel lies at a quay.
const AllowanceMetres = 0.3

// ReadGauges reads measured heights: station, time, height in metres.
func ReadGauges(path string) (*Gauges, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		return nil, err
	}
	g := &Gauges{heights: make(map[reading]float64, len(rows))}
	for i, row := range rows {
		at, err := time.Parse(time.RFC3339, row[1])
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", i+1, err)
		}
		height, err := strconv.ParseFloat(row[2], 64)
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", i+1, err)
		}
		g.heights[reading{row[0], at.UTC()}] = height
	}
	return g, nil
}

// Check returns a GroundingError for the first vessel that was not safe.
func (g *Gauges) Check(given []berth.Berthing) error {
	for _, b := range given {
		height, measured := g.heights[reading{b.Quay.Station, b.Vessel.Arrives.UTC()}]
		if !measured {
			continue
		}
		clearance := height + b.Quay.SillMetres - b.Vessel.DraughtMetres
		if clearance < AllowanceMetres {
			return &GroundingError{Vessel: b.Vessel.Name, Quay: b.Quay.Name, ReckonedMetres: b.ClearanceMetres, MeasuredMetres: clearance, AllowanceMetres: AllowanceMetres}
		}
	}
	return nil
}
