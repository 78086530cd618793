// Program loops leaves loops in every way, and prints what their last parts assigned.
package main

import "fmt"

var trace []int

// said notes a value that is assigned.
func said(n int) int {
	trace = append(trace, n)
	return n
}

func main() {
	i, n := said(-1), 0
	for i = said(0); i < 5; i = said(i + 1) { // broken off
		if i == 3 {
			break
		}
		n += i
	}
	for i = said(0); i < 5; i = said(i + 1) {
		n += i
	}
	for i = said(0); i < 5 && n > 0; i = said(i + 1) {
		switch {
		case i == 1:
			break // of the choice
		case i == 2:
			continue
		}
		for {
			break // of another loop
		}
	}
outer:
	for i = said(0); i < 4; i = said(i + 1) {
		for j := 0; j < 4; j++ {
			switch {
			case j == 2 && i == 0:
				continue outer
			case i == 2:
				break outer
			}
		}
	}
	for i = said(0); i < 3; i = said(i + 1) {
	again:
		for n = 0; n < 2; n++ {
			select {
			default:
				break again
			}
		}
	}
	for i = said(0); i < 9; i = said(i + 1) {
		if i == 4 {
			goto end
		}
	}
end:
	func() {
		defer func() { _ = recover() }()
		for i = said(0); i < 3; i = said(i + 1) {
			if i == 1 {
				panic("leaves")
			}
		}
	}()
	for i = said(0); i < 0; i = said(i + 1) {
	}
	fmt.Println(trace, i, n) // end
}
