// Program offsets corrects readings by the offset of their station.
package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"log"
	"strings"
)

type Station struct {
	Name    string  `json:"name"`
	Offset  float64 `json:"offset"`
	Enabled *bool   `json:"enabled"`
}

type Config struct {
	Stations []Station `json:"stations"`
	Default  float64   `json:"default"`
}

type Corrections struct {
	byName map[string]float64
	used   map[string]int
}

var errNone = errors.New("no correction")

func load(text string) (*Config, error) {
	var c Config
	if err := json.NewDecoder(strings.NewReader(text)).Decode(&c); err != nil {
		return nil, fmt.Errorf("config: %w", err)
	}
	return &c, nil
}

func normalise(name string) string {
	name = strings.ToLower(strings.TrimSpace(name))
	return strings.ReplaceAll(name, " ", "-")
}

func build(c *Config) *Corrections {
	out := &Corrections{byName: map[string]float64{}, used: map[string]int{}}
	for _, s := range c.Stations {
		if s.Enabled != nil && !*s.Enabled {
			continue
		}
		out.byName[normalise(s.Name)] = s.Offset
	}
	return out
}

func (c *Corrections) of(name string) (float64, error) {
	v, ok := c.byName[name]
	if !ok {
		return 0, fmt.Errorf("%s: %w", name, errNone)
	}
	c.used[name]++
	return v, nil
}

type Sample struct {
	Station string
	Metres  float64
	Fixed   bool
}

type Pipeline struct {
	corr    *Corrections
	def     float64
	samples []Sample
	failed  int
}

func (p *Pipeline) add(station string, metres float64) {
	s := Sample{Station: station, Metres: metres}
	key := normalise(station)
	corr, err := p.corr.of(key)
	if err != nil {
		if corr, err := p.fallback(key); err == nil {
			s.Metres += corr
			s.Fixed = true
		} else {
			p.failed++
		}
	}
	if corr != 0 {
		s.Metres += corr
		s.Fixed = true
	}
	p.samples = append(p.samples, s)
}

func (p *Pipeline) fallback(key string) (float64, error) {
	parts := strings.Split(key, "-")
	if len(parts) < 2 {
		return 0, fmt.Errorf("fallback of %s: %w", key, errNone)
	}
	if v, ok := p.corr.byName[parts[0]]; ok {
		return v, nil
	}
	if p.def != 0 {
		return p.def, nil
	}
	return 0, errNone
}

func (p *Pipeline) unfixed() []string {
	var out []string
	for _, s := range p.samples {
		if !s.Fixed {
			out = append(out, s.Station)
		}
	}
	return out
}

const text = `{"stations":[
 {"name":"Inner Ness","offset":0.12},
 {"name":"Skerry","offset":-0.05},
 {"name":"Gannet Bar","offset":0.0},
 {"name":"Kelp Quay","offset":0.3,"enabled":false},
 {"name":"Old Salt","offset":0.07}
]}`

func main() {
	c, err := load(text)
	if err != nil {
		log.Fatal(err)
	}
	p := &Pipeline{corr: build(c), def: c.Default}
	for i, name := range []string{"Inner Ness", "Skerry Gut", "Gannet Bar", "Old Salt ", "Kelp Quay"} {
		p.add(name, 1+float64(i)/10)
	}
	if bad := p.unfixed(); len(bad) > 1 {
		log.Fatalf("%d samples were not corrected: %v", len(bad), bad)
	}
}
