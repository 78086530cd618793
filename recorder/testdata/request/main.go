// Program request computes a value from a request, which is passed on from function to function.
package main

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
)

type server struct {
	log  *slog.Logger
	rate int
}

func (s *server) total(ctx context.Context, r *http.Request, n int) int {
	s.log.Debug("total")
	if ctx.Err() != nil {
		return 0
	}
	q, _ := strconv.Atoi(r.FormValue("q"))
	sum := q*n + s.rate
	return sum
}

func (s *server) handle(ctx context.Context, w http.ResponseWriter, r *http.Request) {
	n := s.total(ctx, r, 3)
	fmt.Fprintln(w, n)
	last = n
}

var last int

func main() {
	s := &server{log: slog.New(slog.NewTextHandler(os.Stderr, nil)), rate: 4}
	ts := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.handle(context.WithValue(r.Context(), "a", 1), w, r)
	}))
	resp, err := http.Get(ts.URL + "?q=5")
	if err != nil {
		panic(err)
	}
	resp.Body.Close()
	fmt.Println(last) // end
}
