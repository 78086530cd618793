package tides

import (
	"fmt"
	"strconv"
	"time"
)

// Notice says that the pressure over a station departs from the mean for a while.
type Notice struct {
	Number              string
	Station             string
	From, To            time.Time // both included
	PressureHectopascal float64
}

// MeanPressureHectopascal is the pressure that the book's heights are made for.
const MeanPressureHectopascal = 1013.25

// MetresPerHectopascal is how much the water rises where the pressure falls.
const MetresPerHectopascal = 0.01

// ReadNotice reads a notice: number, station, from, to, pressure.
func ReadNotice(path string) (Notice, error) {
	rows, err := readRows(path, 5)
	if err != nil {
		return Notice{}, err
	}
	if len(rows) != 1 {
		return Notice{}, fmt.Errorf("%s has %d rows, a notice is one", path, len(rows))
	}
	row := rows[0]
	n := Notice{Number: row[0], Station: row[1]}
	if n.From, err = time.Parse(time.RFC3339, row[2]); err != nil {
		return n, err
	}
	if n.To, err = time.Parse(time.RFC3339, row[3]); err != nil {
		return n, err
	}
	n.PressureHectopascal, err = strconv.ParseFloat(row[4], 64)
	return n, err
}

// Apply corrects the predictions that a notice covers.
func (b *Book) Apply(n Notice) {
	correction := Correction(n.PressureHectopascal)
	for _, p := range b.stations[n.Station] {
		if p.At.Before(n.From) || p.At.After(n.To) {
			continue
		}
		p.HeightMetres += correction
		p.Corrections++
	}
}

// Correction is the rise of the water, in metres, at a pressure.
func Correction(pressureHectopascal float64) float64 {
	return (MeanPressureHectopascal - pressureHectopascal) * MetresPerHectopascal
}
