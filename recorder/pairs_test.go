package recorder_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
)

// bills is a program with two computations of the same sums, in different orders, some of them missing and some made twice.
// It prints what a comparison has to find.
const bills = `package main

import (
	"fmt"
	"math/rand"
)

type item struct {
	pence   int
	foreign bool
}

type bill struct {
	vessel string
	items  []item
}

func (b *bill) total() (sum int) {
	for _, i := range b.items {
		sum += i.pence
	}
	return sum
}

type account struct {
	id, zone string
}

func settle(a account, items []item) {
	due := int64(0)
	for _, i := range items {
		due += int64(i.pence)
		if i.foreign && a.zone == "Outer Sound" {
			due -= int64(i.pence / 100)
		}
	}
	fmt.Sprint(due) // settled
	settled[a.id] = append(settled[a.id], due)
}

var settled = map[string][]int64{}

func main() {
	random := rand.New(rand.NewSource(14))
	zones := []string{"Kelp Basin", "Outer Sound", "Ness"}
	var first, second []*bill
	for n := range 600 {
		b := &bill{vessel: fmt.Sprintf("V%03d", n)}
		for range 1 + random.Intn(4) {
			b.items = append(b.items, item{100 + random.Intn(900), random.Intn(6) == 0})
		}
		if random.Intn(40) > 0 {
			first = append(first, b)
		}
		if random.Intn(30) > 0 {
			second = append(second, b)
		}
		if random.Intn(50) == 0 {
			second = append(second, b)
		}
	}
	sums := map[string][]int{}
	for _, b := range first {
		sums[b.vessel] = append(sums[b.vessel], b.total())
	}
	random.Shuffle(len(second), func(i, j int) { second[i], second[j] = second[j], second[i] })
	for i, b := range second {
		settle(account{b.vessel, zones[i%3]}, b.items)
	}
	pairs, differ, left, right := 0, 0, 0, 0
	for n := range 600 {
		a, b := sums[fmt.Sprintf("V%03d", n)], settled[fmt.Sprintf("V%03d", n)]
		for i := range max(len(a), len(b)) {
			switch {
			case i >= len(a):
				right++
			case i >= len(b):
				left++
			default:
				pairs++
				if int64(a[i]) != b[i] {
					differ++
				}
			}
		}
	}
	fmt.Println(len(first), len(second), pairs, differ, left, right)
}
`

// Two lists of hits are compared by key as the program itself compares them, and what those that differ have in common is
// what makes the difference.
func TestPairsOfHits(t *testing.T) {
	t.Parallel()
	r, run := recordText(t, bills)
	q := ask.PairsRequest{Hits: ask.CheckpointOn{On: "return bill.total"}, Key: "b.vessel", Value: "sum", With: ask.CheckpointOn{On: "line main.go:37"}, WithKey: "a.id", WithValue: "due", Count: 1000}
	p, err := ask.Run(context.Background(), ask.Subject{Recording: r}, ask.Request[ask.Pairs](q))
	require.NoError(t, err)
	assert.Equal(t, strings.TrimSpace(run.out), fmt.Sprint(p.Left, p.Right, p.Pairs, p.Differ, p.OnlyLeft, p.OnlyRight))
	assert.Positive(t, p.Differ)
	assert.Zero(t, p.Unknown)
	require.Len(t, p.Differing, p.Differ+p.OnlyLeft+p.OnlyRight)
	for i, x := range p.Differing {
		if i < p.Differ {
			assert.NotEqual(t, x.LeftValue, x.RightValue)
			assert.Equal(t, [2]int{22, 37}, [2]int{x.Left.Line, x.Right.Line})
		} else {
			assert.True(t, x.Left == nil != (x.Right == nil))
		}
	}
	var common []string
	for _, x := range p.Common {
		common = append(common, x.Name+" = "+x.Value)
	}
	require.GreaterOrEqual(t, len(common), 2)
	assert.Contains(t, common[:3], "the other's a.zone = Outer Sound")
	assert.Contains(t, common[:3], "the other's items[].foreign = true")

	// Without a key or a value, nothing is said about a hit.
	q.WithKey = "a.id == 'V003' ? a.id : nowhere"
	p, err = ask.Run(context.Background(), ask.Subject{Recording: r}, ask.Request[ask.Pairs](q))
	require.NoError(t, err)
	assert.LessOrEqual(t, p.Pairs, 1)
	assert.Equal(t, p.Right-1, p.Unknown)
	assert.Contains(t, p.Trouble, "nowhere")

	// The same hits of another recording.
	again, _ := recordText(t, strings.Replace(bills, "sum += i.pence", "sum += i.pence + len(b.items)/4", 1))
	q = ask.PairsRequest{Hits: q.Hits, Key: "b.vessel", Value: "sum", In: "again", Count: 10}
	p, err = ask.Run(context.Background(), ask.Subject{Recording: r, Others: func(context.Context) ([]ask.Other, error) {
		return []ask.Other{{Name: "again", Recording: again}}, nil
	}}, ask.Request[ask.Pairs](q))
	require.NoError(t, err)
	assert.Equal(t, p.Left, p.Pairs)
	require.NotEmpty(t, p.Common)
	assert.Equal(t, "size(b.items) >= 4", p.Common[0].Name+" "+p.Common[0].Value)
	assert.Equal(t, [2]int{p.Differ, 0}, [2]int{p.Common[0].With, p.Common[0].Without})
}
