package main

import "testing"

func TestFib(t *testing.T) {
	for n, want := range []int{0, 1, 1, 2, 3} {
		if got := fib(n); got != want {
			t.Errorf("fib(%d) = %d, want %d", n, got, want)
		}
	}
}

func TestSquareIsWrong(t *testing.T) {
	t.Run("side 3", func(t *testing.T) {
		if got := (square{3}).area(); got != 10 {
			t.Fatalf("area = %v", got)
		}
	})
}
