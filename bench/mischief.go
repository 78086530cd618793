package main

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Mischief at once: wrong passwords, bodies of senders without a token, expressions that build texts for ever.
const (
	wrongSignIns = 60
	bodies       = 30
	bodyBytes    = 16 << 20
	expressions  = 100
	patience     = 2 * time.Second // of people with the right password
)

// measureMischief measures what people who mean no good cost the others: memory, and how long somebody else waits for a right sign-in.
func (t *team) measureMischief(r *report, dir string, quick bool) error {
	const name, run = "mischief", "run"
	if err := t.caseOfAll(name); err != nil {
		return err
	}
	log := filepath.Join(dir, "mischief.wraith")
	if err := generate(log, 20_000); err != nil {
		return err
	}
	if err := t.upload(name, run, log); err != nil {
		return err
	}
	if err := t.running.Accounts.Add(ctx(), "Careful", "careful-secret", false); err != nil {
		return err
	}
	before := inUse()
	var peak atomic.Uint64
	stop := make(chan struct{})
	var sampled sync.WaitGroup
	sampled.Go(func() {
		for {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			peak.Store(max(peak.Load(), m.HeapInuse+m.StackInuse))
			select {
			case <-stop:
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	})
	var bad sync.WaitGroup
	for n := range wrongSignIns {
		bad.Go(func() { t.signInFrom("127.0.0.1", fmt.Sprint("Guess", n), "wrong-secret") })
	}
	for range bodies {
		bad.Go(t.bodyWithoutToken)
	}
	expression := url.QueryEscape(`["xxxxxxxx"]` + strings.Repeat(".map(a, a+a)", 40))
	for range expressions {
		bad.Go(func() {
			request, err := http.NewRequest("GET", t.running.URL+"/api/cases/"+name+"/evidence/"+run+"/ask?moment=1&expression="+expression, nil)
			if err != nil {
				return
			}
			request.Header.Set("Authorization", "Bearer "+t.tokens[1])
			if answer, err := http.DefaultClient.Do(request); err == nil {
				_, _ = io.Copy(io.Discard, answer.Body)
				answer.Body.Close()
			}
		})
	}
	worst, right := time.Duration(0), 0
	for range 8 {
		began := time.Now()
		if t.signInFrom("127.0.0.2", "Careful", "careful-secret") {
			right++
		}
		worst = max(worst, time.Since(began))
	}
	bad.Wait()
	close(stop)
	sampled.Wait()
	more := int64(peak.Load()) - int64(before)
	what := fmt.Sprintf("%d wrong sign-ins, %d bodies without a token, %d expensive expressions", wrongSignIns, bodies, expressions)
	r.add(what+": additional memory", fmt.Sprintf("%.0f MB", float64(more)/1e6), "", 0, "300 MB", more <= 300e6)
	r.add(fmt.Sprintf("right sign-ins meanwhile, the slowest of 8 (%d succeeded)", right), milliseconds(worst), "", 0, patience.String(), worst <= patience && right == 8)
	return nil
}

// signInFrom signs in from an address, and reports whether that worked.
func (t *team) signInFrom(address, name, password string) bool {
	dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
	c := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, network, to string) (net.Conn, error) {
		return dialer.DialContext(ctx, network, to)
	}, DisableKeepAlives: true}}
	answer, err := c.Post(t.running.URL+"/api/sessions", "application/json", strings.NewReader(fmt.Sprintf(`{"name":%q,"password":%q}`, name, password)))
	if err != nil {
		return false
	}
	answer.Body.Close()
	return answer.StatusCode == http.StatusOK
}

// zeros reads zeros for ever.
type zeros struct{}

// Read implements io.Reader.
func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

// bodyWithoutToken sends a large message of OTLP over gRPC, framed as HTTP/2 sends it after a preface, without a token.
func (t *team) bodyWithoutToken() {
	protocols := new(http.Protocols)
	protocols.SetUnencryptedHTTP2(true)
	c := &http.Client{Transport: &http.Transport{Protocols: protocols}, Timeout: 30 * time.Second}
	head := make([]byte, 5)
	binary.BigEndian.PutUint32(head[1:], bodyBytes)
	// The sender is in this process: its body must not count.
	body := io.MultiReader(bytes.NewReader(head), io.LimitReader(zeros{}, bodyBytes))
	request, err := http.NewRequest("POST", "http://"+t.running.GRPC+"/opentelemetry.proto.collector.trace.v1.TraceService/Export", body)
	if err != nil {
		return
	}
	request.Header.Set("Content-Type", "application/grpc")
	request.Header.Set("TE", "trailers")
	if answer, err := c.Do(request); err == nil {
		_, _ = io.Copy(io.Discard, answer.Body)
		answer.Body.Close()
	}
}
