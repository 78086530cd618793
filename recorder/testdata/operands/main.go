// Each way of failing has an operand that is bad; the argument names it.
package main

import (
	"fmt"
	"os"
	"strings"
)

type token struct {
	text string
	next *token
}

type scanner struct {
	data      []byte
	endOffset int
	tokEnd    int
	seen      map[string]int
}

func (s *scanner) peek() byte { return s.data[s.endOffset+s.tokEnd] }

func (s *scanner) note(text string) { s.seen[text]++ }

func length(t *token) int { return len(t.next.text) }

func lengthOf(list []*token, i int) int { return length(list[i]) }

func share(total, vessels int) int { return total / vessels }

func shares(n int) int { return share(100, n) }

func asInt(v any) int { return v.(int) + 1 }

func main() {
	s := &scanner{data: []byte("twelve bytes"), endOffset: 4, tokEnd: 8}
	switch os.Args[1] {
	case "index":
		fmt.Println(s.peek())
	case "nilmap":
		s.note("fog")
	case "nil":
		fmt.Println(lengthOf([]*token{{text: "a"}, {text: "b", next: nil}}, 1))
	case "nilarg":
		fmt.Println(lengthOf([]*token{nil}, 0))
	case "divide":
		fmt.Println(shares(strings.Count("a", "b")))
	case "assert":
		fmt.Println(asInt(s.text()))
	}
}

func (s *scanner) text() any { return string(s.data) }
