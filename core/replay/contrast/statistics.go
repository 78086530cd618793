// Package contrast finds what separates the traces, requests, records or calls for which a condition holds from the others.
package contrast

import (
	"math"
	"slices"
	"sort"
)

// fisher returns the two-sided probability of a table with these counts, or one at least as unlikely, if rows and columns
// are independent: Fisher's exact test (R. A. Fisher, "On the Interpretation of χ² from Contingency Tables", 1922). a of
// n things with the property have the feature, b of m others.
func fisher(a, n, b, m int) float64 {
	k := a + b
	low, high := max(0, k-m), min(k, n)
	log := func(x int) float64 { return logChoose(n, x) + logChoose(m, k-x) - logChoose(n+m, k) }
	observed := log(a)
	const tolerance = 1e-7
	sum := 0.0
	// The probabilities fall on both sides of the mode: the sum over each tail ends where terms no longer count.
	tail := func(from, step int) {
		for x := from; x >= low && x <= high; x += step {
			p := log(x)
			if p > observed+tolerance {
				continue
			}
			term := math.Exp(p)
			sum += term
			if term < sum*1e-12 {
				return
			}
		}
	}
	mode := min(max(int(float64(k+1)*float64(n+1)/float64(n+m+2)), low), high)
	if a >= mode {
		tail(a, 1)
		tail(firstNotAbove(low, mode, log, observed+tolerance), -1)
	} else {
		tail(a, -1)
		tail(firstNotBelow(mode, high, log, observed+tolerance), 1)
	}
	return min(sum, 1)
}

// firstNotAbove returns the greatest x in [low, mode] whose probability is not above a bound; low-1 for none. The
// probabilities rise up to the mode.
func firstNotAbove(low, mode int, log func(int) float64, bound float64) int {
	return low + sort.Search(mode-low+1, func(i int) bool { return log(low+i) > bound }) - 1
}

// firstNotBelow is firstNotAbove for the falling side: the least x in [mode, high].
func firstNotBelow(mode, high int, log func(int) float64, bound float64) int {
	return mode + sort.Search(high-mode+1, func(i int) bool { return log(mode+i) <= bound })
}

// logChoose returns the logarithm of the binomial coefficient.
func logChoose(n, k int) float64 {
	a, _ := math.Lgamma(float64(n + 1))
	b, _ := math.Lgamma(float64(k + 1))
	c, _ := math.Lgamma(float64(n - k + 1))
	return a - b - c
}

// measure is a number of a thing, and whether the thing has the property.
type measure struct {
	x   float64
	has bool
}

// rank compares the numbers of the things with the property and of the others: the U test of H. B. Mann and D. R. Whitney
// ("On a Test of Whether one of Two Random Variables is Stochastically Larger than the Other", 1947), in its normal
// approximation with the correction for ties. p is two-sided. effect is 2·U/(n·m) - 1: 1 if all numbers with the property
// are greater, -1 if all are smaller. threshold separates best: it has the greatest difference of shares at or above it
// (W. J. Youden, "Index for rating diagnostic tests", 1950). It sorts the list.
func rank(list []measure) (p, effect, threshold float64) {
	slices.SortFunc(list, func(a, b measure) int {
		switch {
		case a.x < b.x:
			return -1
		case a.x > b.x:
			return 1
		}
		return 0
	})
	n, m := 0, 0
	for _, v := range list {
		if v.has {
			n++
		} else {
			m++
		}
	}
	if n == 0 || m == 0 {
		return 1, 0, 0
	}
	sum, ties, best := 0.0, 0.0, 0.0
	below, belowOthers := 0, 0
	for from := 0; from < len(list); {
		to, of := from, 0
		for to < len(list) && list[to].x == list[from].x {
			if list[to].has {
				of++
			}
			to++
		}
		if youden := math.Abs(float64(n-below)/float64(n) - float64(m-belowOthers)/float64(m)); youden > best {
			best, threshold = youden, list[from].x
		}
		t := float64(to - from)
		sum += float64(of) * (float64(from+to+1) / 2)
		ties += t*t*t - t
		below, belowOthers = below+of, belowOthers+to-from-of
		from = to
	}
	all := float64(n + m)
	u := sum - float64(n)*float64(n+1)/2
	mean := float64(n) * float64(m) / 2
	variance := float64(n) * float64(m) / 12 * (all + 1 - ties/(all*(all-1)))
	if variance <= 0 {
		return 1, 0, 0
	}
	z := (math.Abs(u-mean) - 0.5) / math.Sqrt(variance)
	return min(math.Erfc(max(z, 0)/math.Sqrt2), 1), 2*u/(float64(n)*float64(m)) - 1, threshold
}

// significant keeps the findings that hold although many were tested: at most a share of rate of them is expected to be
// chance (Y. Benjamini and Y. Hochberg, "Controlling the False Discovery Rate", 1995).
func significant[T any](list []T, p func(T) float64, rate float64) []T {
	slices.SortStableFunc(list, func(a, b T) int {
		switch x, y := p(a), p(b); {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	})
	keep := 0
	for i, x := range list {
		if p(x) <= rate*float64(i+1)/float64(len(list)) {
			keep = i + 1
		}
	}
	return list[:keep]
}
