// The program prints the names of its function literals, and uses maps whose keys are interfaces.
package main

import (
	"errors"
	"fmt"
	"os"
	"runtime"
)

type node struct {
	n    int
	next *node
	base
}

type base struct{ deep *node }

func name() string {
	pc, _, _, _ := runtime.Caller(1)
	return runtime.FuncForPC(pc).Name()
}

var packaged = func() string { return name() }

func outer() (first, second string) {
	defer func() { second += name() }()
	p := &node{}
	p.n = number(p)
	p.next = link(p)
	p.deep = link(nil)
	p.next.n, p.next = number(p), nil
	list := []int{1, 2}
	i := 0
	list[i] = len(func() string { i = 1; return name() }())
	return packaged(), func() string { return name() }()
}

func number(p *node) int { p.next = &node{n: 3}; return 4 }

func link(p *node) *node { return &node{next: p} }

func many() (a, b, c, d, e, f, g int) {
	func() { fmt.Println(name()) }()
	return 1, 2, 3, 4, 5, 6, 7
}

func fails(which int) (err error) {
	switch which {
	case 0:
		return errors.New("plain")
	case 1:
		return errors.Join(errors.New("ebb"), fmt.Errorf("flow: %w", os.ErrNotExist))
	}
	_, err = os.Open("/no/such/file")
	return err
}

func main() {
	fmt.Println(outer())
	fmt.Println(packaged())
	fmt.Println(many())
	things := map[any]int{}
	things[1], things["a"] = 1, 2
	things[2.5]++
	for k := range 3 {
		things[k] += k
	}
	delete(things, 1)
	delete(things, any("b"))
	fmt.Println(things)
	for i := range 3 {
		fmt.Println(fails(i))
	}
	func() {
		defer func() { fmt.Println(name(), recover()) }()
		var none *node
		none.n = number(&node{})
	}()
}
