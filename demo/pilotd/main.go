// Command pilotd sends pilots to the vessels that arrive in Gannet Sound. Each
// vessel is served by a goroutine of its own; pilots are few, and the roster is
// under a lock. All names and figures are invented.
package main

import (
	"flag"
	"fmt"
	"os"
	"runtime/debug"
	"sync"
	"time"
)

// Vessel is an arrival.
type Vessel struct {
	Name        string
	DraughtM    float64
	Destination string
}

// Licence says up to which draught a pilot may bring vessels in.
type Licence struct {
	Holder   string
	DraughtM float64
}

// Pilot is somebody who brings vessels in.
type Pilot struct {
	Name    string
	Trips   int
	licence *Licence
}

// Roster knows the pilots and their licences.
type Roster struct {
	mu       sync.Mutex
	pilots   map[string]*Pilot
	licences map[string]*Licence
	assigned map[string]string // vessel to pilot
}

// Office gives pilots to vessels.
type Office struct {
	roster *Roster
	free   chan *Pilot
	opened chan struct{} // closed when the office opens
	tide   *sync.Cond
	high   bool
	done   sync.WaitGroup
}

var names = []string{"Curlew Bank", "Morning Petrel", "Two Sisters of Ness", "Halcyon Drift"}

func newOffice(pilots int) *Office {
	r := &Roster{pilots: map[string]*Pilot{}, licences: map[string]*Licence{}, assigned: map[string]string{}}
	o := &Office{roster: r, free: make(chan *Pilot, pilots), opened: make(chan struct{}), tide: sync.NewCond(&sync.Mutex{})}
	for i := range pilots {
		p := &Pilot{Name: fmt.Sprintf("pilot %02d", i+1)}
		r.pilots[p.Name] = p
		if i != pilots-2 { // the last but one has let the licence lapse
			r.licences[p.Name] = &Licence{p.Name, 4 + float64(i)}
		}
		o.free <- p
	}
	return o
}

// serve brings one vessel in: it waits for the office to open and for a pilot,
// checks the licence, and waits for the tide.
func (o *Office) serve(v Vessel) {
	defer o.done.Done()
	<-o.opened
	p := <-o.free
	o.roster.assign(v, p)
	o.awaitTide(v)
	o.free <- p
}

// assign books a pilot. The roster stays locked while the licence is looked at.
func (r *Roster) assign(v Vessel, p *Pilot) {
	r.mu.Lock()
	r.assigned[v.Name] = p.Name
	time.Sleep(time.Millisecond)
	r.check(v, p)
	p.Trips++
	r.mu.Unlock()
}

func (r *Roster) check(v Vessel, p *Pilot) {
	p.licence = r.licences[p.Name]
	if v.DraughtM > p.licence.DraughtM {
		r.assigned[v.Name] = ""
	}
}

func (o *Office) awaitTide(v Vessel) {
	o.tide.L.Lock()
	defer o.tide.L.Unlock()
	for !o.high {
		o.tide.Wait()
	}
}

func main() {
	vessels := flag.Int("vessels", 300, "how many vessels arrive")
	pilots := flag.Int("pilots", 12, "how many pilots there are")
	flag.Parse()
	debug.SetTraceback("crash")
	o := newOffice(*pilots)
	for i := range *vessels {
		o.done.Add(1)
		v := Vessel{Name: fmt.Sprintf("%s %d", names[i%len(names)], i/len(names)+1), DraughtM: 3 + float64(i%5), Destination: "Osprey Wall"}
		go o.serve(v)
	}
	close(o.opened)
	o.done.Wait()
	fmt.Println("all vessels are in")
	os.Exit(0)
}
