// Program outbox encodes notices into buffers of a pool and sends them later.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"sort"
	"strings"
	"sync"
)

type Notice struct {
	Number  string            `json:"number"`
	Station string            `json:"station"`
	From    int               `json:"from"`
	To      int               `json:"to"`
	Attrs   map[string]string `json:"attrs,omitempty"`
}

type Encoder struct {
	pool sync.Pool
}

func NewEncoder() *Encoder {
	e := &Encoder{}
	e.pool.New = func() any { return new(bytes.Buffer) }
	return e
}

func (e *Encoder) Encode(n Notice) ([]byte, error) {
	buf := e.pool.Get().(*bytes.Buffer)
	defer e.pool.Put(buf)
	buf.Reset()
	if err := json.NewEncoder(buf).Encode(n); err != nil {
		return nil, fmt.Errorf("encode %s: %w", n.Number, err)
	}
	return bytes.TrimRight(buf.Bytes(), "\n"), nil
}

type Outbox struct {
	enc     *Encoder
	pending map[string][]byte
	sizes   map[string]int
}

func (o *Outbox) Add(n Notice) error {
	b, err := o.enc.Encode(n)
	if err != nil {
		return err
	}
	o.pending[n.Number] = b
	o.sizes[n.Number] = len(b)
	return nil
}

func (o *Outbox) Numbers() []string {
	var out []string
	for k := range o.pending {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

type Receiver struct {
	got    []Notice
	errors []string
}

func (r *Receiver) Accept(number string, b []byte) {
	var n Notice
	if err := json.Unmarshal(b, &n); err != nil {
		r.errors = append(r.errors, fmt.Sprintf("%s: %v", number, err))
		return
	}
	if n.Number != number {
		r.errors = append(r.errors, fmt.Sprintf("%s: is notice %s", number, n.Number))
		return
	}
	r.got = append(r.got, n)
}

func notices() []Notice {
	var out []Notice
	for i, s := range strings.Fields("InnerNess Skerry GannetBar OldSalt") {
		out = append(out, Notice{Number: fmt.Sprintf("04%02d", i+10), Station: s, From: i * 60, To: i*60 + 30})
	}
	return out
}

func main() {
	o := &Outbox{enc: NewEncoder(), pending: map[string][]byte{}, sizes: map[string]int{}}
	for _, n := range notices() {
		if err := o.Add(n); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
	}
	r := &Receiver{}
	for _, k := range o.Numbers() {
		r.Accept(k, o.pending[k])
	}
	for _, e := range r.errors {
		fmt.Println(e)
	}
	if len(r.got) != len(o.pending) {
		fmt.Printf("%d of %d notices arrived\n", len(r.got), len(o.pending))
		os.Exit(2)
	}
}
