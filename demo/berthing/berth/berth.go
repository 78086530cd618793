// Package berth gives arriving vessels a place at a quay.
package berth

import (
	"errors"
	"fmt"

	"berthing/arrivals"
	"berthing/tides"
)

// Quay is a place to lie at. The sill is how deep its ground lies below chart datum.
type Quay struct {
	Name       string
	Station    string
	SillMetres float64
	Berthed    int
}

// Berthing is a quay given to a vessel, with the water that was reckoned with.
type Berthing struct {
	Vessel          arrivals.Vessel
	Quay            *Quay
	WaterMetres     float64
	ClearanceMetres float64
}

// Harbour gives berths by one tide book.
type Harbour struct {
	book   *tides.Book
	quays  []*Quay
	margin float64
}

// MarginMetres must be left between keel and ground.
const MarginMetres = 0.5

// ErrNoWater says that no quay has enough water for a vessel.
var ErrNoWater = errors.New("no quay has enough water")

// NewHarbour returns the quays of Gannet Sound, the shallowest first: deep water
// is kept for those who need it.
func NewHarbour(book *tides.Book) *Harbour {
	return &Harbour{book: book, margin: MarginMetres, quays: []*Quay{
		{Name: "Old Salt Stage", Station: "Skerry Gut", SillMetres: 1.2},
		{Name: "Kelp Quay 1", Station: "Inner Ness", SillMetres: 2.1},
		{Name: "Kelp Quay 2", Station: "Inner Ness", SillMetres: 2.6},
		{Name: "Kelp Quay 3", Station: "Inner Ness", SillMetres: 3.1},
		{Name: "Kelp Quay 4", Station: "Inner Ness", SillMetres: 3.6},
		{Name: "Osprey Wall", Station: "Gannet Bar", SillMetres: 5.4},
	}}
}

// Assign gives a vessel the first quay that keeps the margin under her keel.
func (h *Harbour) Assign(vessel arrivals.Vessel) (Berthing, error) {
	for _, quay := range h.quays {
		water, err := h.water(vessel, quay)
		if err != nil {
			return Berthing{}, fmt.Errorf("berth %s: %w", vessel.Name, err)
		}
		draught := vessel.DraughtMetres
		clearance := underKeel(water, draught)
		if clearance < h.margin {
			continue
		}
		quay.Berthed++
		return Berthing{Vessel: vessel, Quay: quay, WaterMetres: water, ClearanceMetres: clearance}, nil
	}
	return Berthing{}, ErrNoWater
}

// water is the depth over a quay's ground when the vessel arrives.
func (h *Harbour) water(vessel arrivals.Vessel, quay *Quay) (float64, error) {
	tide, err := h.book.At(quay.Station, vessel.Arrives)
	if err != nil {
		return 0, err
	}
	depth := tide.HeightMetres + quay.SillMetres
	return depth, nil
}

func underKeel(water, draught float64) float64 {
	return water - draught
}
