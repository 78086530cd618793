//go:build go1.23

package inject

// The functions End0 to End6 end a call that has so many results. They are deferred by the function
// itself.

// End0 ends a call without results.
func End0(f *Frame) {
	f.Back()
	f.Off()
}

// End1 ends a call with 1 result.
func End1[A any](f *Frame, a *A) {
	if f.Back() {
		R(f, a)
	}
	f.Off()
}

// End2 ends a call with 2 results.
func End2[A, B any](f *Frame, a *A, b *B) {
	if f.Back() {
		R(f, a)
		R(f, b)
	}
	f.Off()
}

// End3 ends a call with 3 results.
func End3[A, B, C any](f *Frame, a *A, b *B, c *C) {
	if f.Back() {
		R(f, a)
		R(f, b)
		R(f, c)
	}
	f.Off()
}

// End4 ends a call with 4 results.
func End4[A, B, C, D any](f *Frame, a *A, b *B, c *C, d *D) {
	if f.Back() {
		R(f, a)
		R(f, b)
		R(f, c)
		R(f, d)
	}
	f.Off()
}

// End5 ends a call with 5 results.
func End5[A, B, C, D, E any](f *Frame, a *A, b *B, c *C, d *D, e *E) {
	if f.Back() {
		R(f, a)
		R(f, b)
		R(f, c)
		R(f, d)
		R(f, e)
	}
	f.Off()
}

// End6 ends a call with 6 results.
func End6[A, B, C, D, E, F any](f *Frame, a *A, b *B, c *C, d *D, e *E, g *F) {
	if f.Back() {
		R(f, a)
		R(f, b)
		R(f, c)
		R(f, d)
		R(f, e)
		R(f, g)
	}
	f.Off()
}
