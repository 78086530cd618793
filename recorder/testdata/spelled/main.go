// The program has names and values that expressions once refused.
package main

import "fmt"

type inner struct{ Depth int }
type Base struct{ ID int }
type quay struct {
	Base
	*inner
	Name string
	raw  []byte
}

type App struct{ runs int }

func (a *App) Run(p *inner) int { a.runs++; return p.Depth + a.runs }

var harbour = "Gannet Sound"

type inService struct{ in int }

func main() {
	p := &inner{7}
	q := &quay{Base{3}, p, "Kelp", []byte("ebb and flow")}
	var list []int
	m := map[string]int{"a": 1}
	in, as := 4, 5
	a := &App{}
	n := a.Run(p)
	s := inService{in}
	fmt.Println(p, q.ID, q.Depth, harbour, len(list), m["zz"], in, as, n, s.in) // here
}
