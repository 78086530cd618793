package live

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Every watcher of the case, and no other, is told at least once after the last change; nobody is waited for.
func TestHub(t *testing.T) {
	t.Parallel()
	h := New()
	fog, stopFog := h.Watch(1)
	other, stopOther := h.Watch(2)
	slow, stopSlow := h.Watch(1)
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			for range 100 {
				h.Changed(1)
			}
		})
	}
	wait.Wait()
	for _, c := range []<-chan struct{}{fog, slow} {
		<-c
		assert.Empty(t, c)
	}
	assert.Empty(t, other)
	stopSlow()
	h.Changed(1)
	assert.Len(t, fog, 1)
	assert.Empty(t, slow)
	stopFog()
	stopOther()
	assert.Empty(t, h.watchers)
}
