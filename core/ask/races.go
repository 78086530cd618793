package ask

import (
	"context"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var _ = declare[RacesRequest, Races]("races", "Accesses to the same place by two threads that nothing orders")

// RacesRequest asks for the races of a recording.
type RacesRequest struct {
	From  int `json:"from" minimum:"0" doc:"number of races to skip"`
	Count int `json:"count" minimum:"1" maximum:"10000" default:"20" flag:"first" doc:"number of races"`
}

// Races are pairs of accesses that are not ordered, those that lost an update first. Unexamined counts the
// lines whose reads were not looked at, because there are too many.
type Races struct {
	Total      int    `json:"total"`
	Races      []Race `json:"races"`
	Unexamined int    `json:"unexamined"`
}

// Race is the first occurrence of a pair of accesses, of Times. If Lost is set, a thread read (First), another one wrote
// (Second), and the first one wrote without having seen that (Overwrite).
type Race struct {
	Name      string  `json:"name"`
	Lost      bool    `json:"lost"`
	First     Access  `json:"first"`
	Second    Access  `json:"second"`
	Overwrite *Access `json:"overwrite,omitempty"`
	Times     int     `json:"times"`
}

// Access is a read or a write.
type Access struct {
	Moment   event.Moment   `json:"moment"`
	Thread   event.ThreadID `json:"thread"`
	Function string         `json:"function"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
	Name     string         `json:"name"`
	Value    string         `json:"value"`
	Write    bool           `json:"write"`
}

// Negative implements Negative: there is no race.
func (r Races) Negative() bool { return r.Total == 0 }

// usualLimit is longer than for other questions: it goes through all moments.
func (q RacesRequest) usualLimit() time.Duration { return time.Minute }

func (q RacesRequest) answer(ctx context.Context, s *Subject) (Races, error) {
	out := Races{Races: []Race{}}
	r, err := capability[replay.Racer](s, noHistory("race to find"))
	if err != nil {
		return out, err
	}
	list, err := r.Races(ctx, replay.Page{From: q.From, Count: q.Count})
	if err != nil {
		return out, err
	}
	out.Total, out.Unexamined = list.Total, list.Unexamined
	for _, x := range list.Page {
		out.Races = append(out.Races, raceOf(x))
	}
	return out, nil
}

func raceOf(x replay.Race) Race {
	race := Race{Name: x.Name, Lost: x.Lost, First: accessOf(x.First), Second: accessOf(x.Second), Times: x.Times}
	if x.Lost {
		overwrite := accessOf(x.Overwrite)
		race.Overwrite = &overwrite
	}
	return race
}

func accessOf(a replay.Access) Access {
	return Access{Moment: a.Moment, Thread: a.Thread, Function: a.Function, File: a.File, Line: a.Line, Name: a.Name, Value: valueText(a.Value), Write: a.Write}
}
