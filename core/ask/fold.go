package ask

import "wraithology/core/replay"

const (
	// maxFrames is the usual number of frames that are shown of one stack.
	maxFrames = 500
	// maxCycle is the maximum number of frames that repeat as one.
	maxCycle = 32
	// minRepeats is the minimum number of repetitions that are folded, and minFolded that of frames.
	minRepeats, minFolded = 4, 16
)

// folded is a frame that is shown, and how many after it are not. cycle is the number of frames, up to
// this one, that these repeat; 0 if they are left out because there are too many.
type folded struct {
	replay.Frame
	left, cycle int
}

// foldFrames leaves out frames that repeat those before them, as in a recursion without end, and of
// what is left the middle, if there are more than most. The last repetition is shown too.
func foldFrames(frames []replay.Frame, most int) []folded {
	same := func(i, k int) bool {
		a, b := &frames[i], &frames[k]
		return a.Line == b.Line && a.Function == b.Function && a.File == b.File
	}
	var out []folded
	for i := 0; i < len(frames); {
		length, end := 0, i
		for n := 1; n <= maxCycle && length == 0; n++ {
			end = i + n
			for end < len(frames) && same(end, end-n) {
				end++
			}
			if end = i + (end-i)/n*n; (end-i)/n >= minRepeats && end-i >= minFolded {
				length = n
			}
		}
		if length == 0 {
			out = append(out, folded{Frame: frames[i]})
			i++
			continue
		}
		for k := i; k < i+length; k++ {
			out = append(out, folded{Frame: frames[k]})
		}
		out[len(out)-1].left, out[len(out)-1].cycle = end-i-2*length, length
		for k := end - length; k < end; k++ {
			out = append(out, folded{Frame: frames[k]})
		}
		i = end
	}
	const atLeast = 5
	if most = max(most, atLeast); len(out) <= most {
		return out
	}
	outer := most / atLeast // how it began
	inner := most - outer
	last := &out[inner-1]
	last.left, last.cycle = out[len(out)-outer].Index-last.Index-1, 0
	return append(out[:inner], out[len(out)-outer:]...)
}
