// Package tides keeps the predicted heights of the tide at the stations of the
// sound, and corrects them for the pressure of the air.
package tides

import (
	"encoding/csv"
	"fmt"
	"os"
	"strconv"
	"time"
)

// Prediction is the height of the tide above chart datum at one station and time.
type Prediction struct {
	Station      string
	At           time.Time
	HeightMetres float64
	Corrections  int
}

// Book holds the predictions of each station, every half hour, in order of time.
// The zero Book is empty.
type Book struct {
	stations map[string][]*Prediction
}

// Step is the time between two predictions.
const Step = 30 * time.Minute

// ReadBook reads a tide book: station, time, height in metres.
func ReadBook(path string) (*Book, error) {
	rows, err := readRows(path, 3)
	if err != nil {
		return nil, err
	}
	book := &Book{}
	for i, row := range rows {
		at, err := time.Parse(time.RFC3339, row[1])
		if err != nil {
			return nil, fmt.Errorf("%s, row %d: %w", path, i+1, err)
		}
		height, err := strconv.ParseFloat(row[2], 64)
		if err != nil {
			return nil, fmt.Errorf("%s, row %d: %w", path, i+1, err)
		}
		book.Add(row[0], at, height)
	}
	return book, nil
}

// Add puts a prediction at the end of its station's page.
func (b *Book) Add(station string, at time.Time, heightMetres float64) {
	if b.stations == nil {
		b.stations = map[string][]*Prediction{}
	}
	p := &Prediction{Station: station, At: at, HeightMetres: heightMetres}
	b.stations[station] = append(b.stations[station], p)
}

// At returns the prediction in force at a station when a vessel arrives.
func (b *Book) At(station string, at time.Time) (*Prediction, error) {
	page := b.stations[station]
	if len(page) == 0 {
		return nil, fmt.Errorf("the book has no page for %s", station)
	}
	n := int(at.Sub(page[0].At) / Step)
	if n < 0 || n >= len(page) {
		return nil, fmt.Errorf("the page for %s ends before %s", station, at.Format(time.RFC3339))
	}
	return page[n], nil
}

func readRows(path string, fields int) ([][]string, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	r := csv.NewReader(f)
	r.FieldsPerRecord = fields
	r.Comment = '#'
	return r.ReadAll()
}
