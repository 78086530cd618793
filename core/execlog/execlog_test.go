package execlog_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/execlog"
)

// lineEvents encodes n line events, one nanosecond after the other.
func lineEvents(first, n int) []byte {
	var b []byte
	for i := range n {
		b = append(b, byte(event.Line), 1)
		b = binary.AppendUvarint(b, uint64(first+i))
	}
	return b
}

// sample writes a log of some blocks and returns it with the offsets at which
// each block ends.
func sample(t testing.TB, codec execlog.Codec, blocks int) (log []byte, ends []int) {
	var out bytes.Buffer
	w, err := execlog.NewWriter(&out, event.Header{Program: "berthing", Language: "Go", Command: []string{"berthing"}}, codec)
	require.NoError(t, err)
	require.NoError(t, w.File(event.File{ID: 0, Path: "berth/berth.go", Text: "package berth\n"}))
	require.NoError(t, w.Function(event.Function{ID: 0, Name: "berth.Assign", Own: true, Line: 3, EndLine: 9,
		Variables: []event.Variable{{Name: "water", Scope: event.Parameter, Type: "float64", Line: 3, EndLine: 9}}, Parameters: []event.VariableID{0}}))
	require.NoError(t, w.Site(event.Site{ID: 7, Function: 0, Line: 4, Reads: []string{"water"}, Writes: []string{"depth"}}))
	require.NoError(t, w.Process(event.Process{ID: 1, PID: 42, Program: "berthing"}))
	require.NoError(t, w.Thread(event.Thread{ID: 1, Process: 1, Number: 18, Creator: "main.main at main.go:3"}))
	require.NoError(t, w.Type(1, event.Type{ID: 1, Name: "berth.Quay", Form: event.Struct, Size: 24, Fields: []event.Field{{Name: "Name", Type: 2}, {Name: "Sill", Type: 3, Offset: 16}}}))
	for i := range blocks {
		require.NoError(t, w.Events(1, 1, int64(i*1000), lineEvents(i*100, 100)))
		ends = append(ends, out.Len())
	}
	return out.Bytes(), ends
}

// count walks all events and checks that they are the first ones, in order.
func count(t *testing.T, log *execlog.Log) int {
	n := 0
	for _, b := range log.Blocks {
		payload, err := log.Payload(b)
		if err != nil {
			continue
		}
		w := event.NewWalk(payload, b.Base)
		for w.Next() {
			n++
		}
		require.NoError(t, w.Err())
	}
	return n
}

func open(b []byte) (*execlog.Log, error) { return execlog.Open(bytes.NewReader(b), int64(len(b))) }

func TestWhatIsWrittenIsRead(t *testing.T) {
	for _, codec := range []execlog.Codec{execlog.Plain, execlog.Zstd} {
		b, _ := sample(t, codec, 5)
		log, err := open(b)
		require.NoError(t, err)
		assert.Empty(t, log.Losses)
		assert.Equal(t, 500, count(t, log))
		assert.Equal(t, "berthing", log.Header.Program)
		assert.Equal(t, "package berth\n", log.Files[0].Text)
		assert.Equal(t, event.Site{ID: 7, Line: 4, Reads: []string{"water"}, Writes: []string{"depth"}}, log.Sites[7])
		assert.Equal(t, "water", log.Functions[0].Variables[0].Name)
		assert.Equal(t, uint64(16), log.Types(1)(1).Fields[1].Offset)
		th, ok := log.Thread(1, 1)
		assert.True(t, ok)
		assert.Equal(t, uint64(18), th.Number)
	}
}

// A log that is cut anywhere is readable to its last whole block, and says what
// is lost.
func TestCutAnywhere(t *testing.T) {
	b, ends := sample(t, execlog.Zstd, 6)
	for n := range b {
		log, err := open(b[:n])
		if n < execlog.PrefixSize {
			require.ErrorIs(t, err, execlog.ErrNotALog, "cut at %d", n)
			continue
		}
		require.NoError(t, err, "cut at %d", n)
		whole := 0
		for _, e := range ends {
			if n >= e {
				whole++
			}
		}
		assert.Equal(t, 100*whole, count(t, log), "cut at %d", n)
		boundary := n == execlog.PrefixSize || len(log.Losses) == 0
		if boundary {
			continue // cut between two blocks: nothing shows that more was to come
		}
		assert.Contains(t, log.Losses[0].What, "cut off", "cut at %d", n)
	}
}

// One flipped byte costs at most the block that it is in.
func TestFlippedByte(t *testing.T) {
	b, _ := sample(t, execlog.Zstd, 6)
	random := rand.New(rand.NewPCG(1, 2))
	for range 400 {
		at := execlog.PrefixSize + random.IntN(len(b)-execlog.PrefixSize)
		damaged := bytes.Clone(b)
		damaged[at] ^= byte(1 + random.IntN(255))
		log, err := open(damaged)
		require.NoError(t, err)
		n, unread := 0, len(log.Losses)
		for _, block := range log.Blocks {
			payload, err := log.Payload(block)
			if err != nil {
				unread++
				continue
			}
			for w := event.NewWalk(payload, block.Base); w.Next(); {
				n++
			}
		}
		assert.GreaterOrEqual(t, n, 500, "flipped %d: more than its block is gone", at)
		if n < 600 {
			assert.Positive(t, unread, "flipped %d: events are gone and nothing says so", at)
		}
	}
}

func TestNotALog(t *testing.T) {
	for _, text := range []string{"", "WRAITH", "this is a letter to the harbour master, and no log"} {
		_, err := open([]byte(text))
		require.ErrorIs(t, err, execlog.ErrNotALog)
	}
	b, _ := sample(t, execlog.Plain, 1)
	binary.LittleEndian.PutUint16(b[8:], 99)
	_, err := open(b)
	require.ErrorContains(t, err, "version 99")
}

// A block that its program was still filling is read up to its last commit, and reserved space
// after it is no damage.
func TestLiveBlock(t *testing.T) {
	b, _ := sample(t, execlog.Plain, 1)
	header := make([]byte, execlog.HeaderSize)
	le := binary.LittleEndian
	le.PutUint32(header, execlog.BlockMagic)
	header[4], header[5] = byte(execlog.EventBlock), byte(execlog.Live)
	payload := lineEvents(0, 10)
	le.PutUint32(header[8:], uint32(len(payload)))
	le.PutUint32(header[16:], 4096)
	le.PutUint32(header[20:], 2)
	room := make([]byte, 4096+100_000)
	copy(room, payload)
	log, err := open(append(append(b, header...), room...))
	require.NoError(t, err)
	assert.Empty(t, log.Losses)
	assert.Equal(t, 110, count(t, log))
}

// A block of a type that a later version adds costs nothing.
func TestUnknownBlockTypes(t *testing.T) {
	t.Parallel()
	b, ends := sample(t, execlog.Plain, 2)
	added := bytes.Clone(b[ends[0]:ends[1]])
	added[4] = byte(execlog.SummaryBlock) + 1
	binary.LittleEndian.PutUint32(added[44:], execlog.Checksum(added[:44]))
	log, err := open(append(append(bytes.Clone(b[:ends[0]]), added...), b[ends[0]:]...))
	require.NoError(t, err)
	assert.Empty(t, log.Losses)
	assert.Equal(t, 200, count(t, log))
}

// A summary is read as it was written; a malformed one loses nothing else.
func TestSummary(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	w, err := execlog.NewWriter(&out, event.Header{Program: "berthing"}, execlog.Zstd)
	require.NoError(t, err)
	want := execlog.Summary{Moments: 1 << 40, Threads: 3, Last: 77, Open: []execlog.OpenCalls{{Process: 1, Thread: 2, Time: 5, Depth: 70, Calls: []execlog.OpenCall{{Function: 4, Site: 9, Reached: true}, {Function: 0}}}},
		Notable: []execlog.NotableEvent{{Kind: event.Panic, Text: "the gauge is dry", Code: 3, OpenCalls: execlog.OpenCalls{Thread: 1}}}}
	require.NoError(t, w.Summary(want))
	log, err := open(out.Bytes())
	require.NoError(t, err)
	require.NotNil(t, log.Summary)
	assert.Equal(t, want, *log.Summary)
	assert.Empty(t, log.Losses)

	b, ends := sample(t, execlog.Plain, 2)
	wrong := bytes.Clone(b[ends[0]:ends[1]])
	wrong[4] = byte(execlog.SummaryBlock)
	binary.LittleEndian.PutUint32(wrong[44:], execlog.Checksum(wrong[:44]))
	log, err = open(append(append(bytes.Clone(b[:ends[0]]), wrong...), b[ends[0]:]...))
	require.NoError(t, err)
	require.Len(t, log.Losses, 1)
	assert.Contains(t, log.Losses[0].What, "summary")
	assert.Nil(t, log.Summary)
	assert.Equal(t, 200, count(t, log))
}

func FuzzLog(f *testing.F) {
	for _, codec := range []execlog.Codec{execlog.Plain, execlog.Zstd} {
		b, _ := sample(f, codec, 2)
		f.Add(b)
		f.Add(b[:len(b)/2])
	}
	f.Fuzz(func(_ *testing.T, b []byte) {
		log, err := open(b)
		if err != nil {
			return
		}
		for _, block := range log.Blocks {
			payload, err := log.Payload(block)
			if err != nil {
				continue
			}
			for w := event.NewWalk(payload, block.Base); w.Next(); {
				e := w.Event()
				_ = fmt.Sprint(e.Kind)
				_, _ = event.DecodeValues(e.Data, e.Args, log.Types(block.Process))
				_, _ = event.DecodeEntries(e.Data, log.Types(block.Process))
				_, _, _ = event.DecodeSpread(e.Data, log.Types(block.Process))
			}
		}
	})
}
