// Command loop computes and calls nothing.
package main

func sum(n int) int {
	total := 0
	for i := 0; i < n; i++ {
		if i%3 == 0 {
			total += i
		} else {
			total ^= i
		}
	}
	return total
}

func main() { println(sum(10_000_000)) }
