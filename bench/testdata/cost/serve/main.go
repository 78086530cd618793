// Command serve answers requests for berths over HTTP. It prints its address.
package main

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"sort"
	"strings"
	"sync"
)

type vessel struct {
	Name  string  `json:"name"`
	Draft float64 `json:"draft"`
}

type quay struct {
	Name  string  `json:"name"`
	Depth float64 `json:"depth"`
	Free  bool    `json:"free"`
}

type harbour struct {
	mu    sync.Mutex
	quays []quay
	given map[string]string
}

// assign returns the shallowest free quay that is deep enough.
func (h *harbour) assign(v vessel) (quay, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	best := -1
	for i, q := range h.quays {
		if q.Free && q.Depth >= v.Draft+0.5 && (best < 0 || q.Depth < h.quays[best].Depth) {
			best = i
		}
	}
	if best < 0 {
		return quay{}, fmt.Errorf("no quay is deep enough for %s", v.Name)
	}
	h.given[v.Name] = h.quays[best].Name
	return h.quays[best], nil
}

func (h *harbour) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var v vessel
	if err := json.NewDecoder(r.Body).Decode(&v); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	v.Name = strings.TrimSpace(v.Name)
	q, err := h.assign(v)
	if err != nil {
		http.Error(w, err.Error(), http.StatusConflict)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	if err := json.NewEncoder(w).Encode(q); err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
}

func main() {
	h := &harbour{given: map[string]string{}}
	for i := range 12 {
		h.quays = append(h.quays, quay{fmt.Sprint("quay ", i), 2 + float64(i)/2, i%4 != 0})
	}
	sort.Slice(h.quays, func(i, k int) bool { return h.quays[i].Depth > h.quays[k].Depth })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println(l.Addr())
	if err := http.Serve(l, h); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
