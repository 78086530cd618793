// Program invoices bills vessels, corrects a bill and audits the book.
package main

import (
	"fmt"
	"os"
	"sort"
	"strconv"
	"strings"
)

type Invoice struct {
	ID     string
	Vessel string
	Lines  []Line
	Total  int
}

type Line struct {
	Kind  string
	Units int
	Price int
	Cents int
}

type Tariff struct {
	base     map[string]int
	discount map[string]int
	minimum  int
}

func (t *Tariff) price(kind string, units int) int {
	p := t.base[kind] * units
	if p < t.minimum {
		p = t.minimum
	}
	return p
}

func (t *Tariff) rebate(vessel string, cents int) int {
	d, ok := t.discount[vessel]
	if !ok {
		return 0
	}
	return cents / 100 * d
}

func readTariff(text string) (*Tariff, error) {
	t := &Tariff{base: map[string]int{}, discount: map[string]int{}}
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		f := strings.Fields(line)
		n, err := strconv.Atoi(f[len(f)-1])
		if err != nil {
			return nil, err
		}
		switch f[0] {
		case "base":
			t.base[f[1]] = n
		case "rebate":
			t.discount[f[1]] = n
		case "minimum":
			t.minimum = n
		}
	}
	return t, nil
}

func bill(t *Tariff, id, vessel string, lines []Line) *Invoice {
	inv := &Invoice{ID: id, Vessel: vessel}
	for _, l := range lines {
		l.Price = t.price(l.Kind, l.Units)
		l.Cents = l.Price - t.rebate(vessel, l.Price)
		inv.Lines = append(inv.Lines, l)
		inv.Total += l.Cents
	}
	return inv
}

type Book struct {
	byID   map[string]*Invoice
	totals map[string]int
}

func (b *Book) enter(i *Invoice) {
	b.byID[i.ID] = i
	b.totals[i.Vessel] += i.Total
}

func (b *Book) correct(id string, kind string, units int, t *Tariff) {
	i := b.byID[id]
	if i == nil {
		return
	}
	for _, l := range i.Lines {
		if l.Kind == kind {
			old := l.Cents
			l.Units = units
			l.Price = t.price(kind, units)
			l.Cents = l.Price - t.rebate(i.Vessel, l.Price)
			i.Total += l.Cents - old
			b.totals[i.Vessel] += l.Cents - old
		}
	}
}

func (b *Book) audit() []string {
	var bad []string
	for id, i := range b.byID {
		sum := 0
		for _, l := range i.Lines {
			sum += l.Cents
		}
		if sum != i.Total {
			bad = append(bad, fmt.Sprintf("%s: lines %d, total %d", id, sum, i.Total))
		}
	}
	sort.Strings(bad)
	return bad
}

const tariff = `
base berth 1250
base water 80
base waste 430
rebate Kelp 10
minimum 500
`

func main() {
	t, err := readTariff(tariff)
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	b := &Book{byID: map[string]*Invoice{}, totals: map[string]int{}}
	b.enter(bill(t, "I1", "Kelp", []Line{{Kind: "berth", Units: 3}, {Kind: "water", Units: 12}}))
	b.enter(bill(t, "I2", "Amber", []Line{{Kind: "berth", Units: 1}, {Kind: "waste", Units: 2}}))
	b.enter(bill(t, "I3", "Kelp", []Line{{Kind: "water", Units: 4}}))
	b.correct("I1", "water", 30, t)
	b.correct("I9", "berth", 1, t)
	if bad := b.audit(); len(bad) > 0 {
		fmt.Println(strings.Join(bad, "\n"))
		os.Exit(3)
	}
}
