// Package arrivals reads the list of the vessels that are expected.
package arrivals

import (
	"encoding/csv"
	"fmt"
	"os"
	"strconv"
	"time"
)

// Vessel is one arrival. The draught is how deep she lies in the water.
type Vessel struct {
	Name          string
	Arrives       time.Time
	DraughtMetres float64
}

// Read reads a list of arrivals: name, time, draught in metres.
func Read(path string) ([]Vessel, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		return nil, err
	}
	var list []Vessel
	for i, row := range rows {
		if len(row) != 3 {
			return nil, fmt.Errorf("row %d has %d fields", i+1, len(row))
		}
		at, err := time.Parse(time.RFC3339, row[1])
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", i+1, err)
		}
		draught, err := strconv.ParseFloat(row[2], 64)
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", i+1, err)
		}
		list = append(list, Vessel{Name: row[0], Arrives: at, DraughtMetres: draught})
	}
	return list, nil
}
