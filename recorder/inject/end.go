//go:build go1.23

package inject

// The functions End0 to End9 end a call with the number of results in their names. The function
// itself defers them. There is one for each number because a generic function has a fixed number of
// types, and a function literal instead would shift the numbers in the names of the user's.

// End0 ends a call without results.
func End0(f *Frame) {
	f.Back()
	f.Off()
}

// End1 ends a call with 1 result.
func End1[T1 any](f *Frame, r1 *T1) {
	if f.Back() {
		R(f, r1)
	}
	f.Off()
}

// End2 ends a call with 2 results.
func End2[T1, T2 any](f *Frame, r1 *T1, r2 *T2) {
	if f.Back() {
		R(f, r1)
		R(f, r2)
	}
	f.Off()
}

// End3 ends a call with 3 results.
func End3[T1, T2, T3 any](f *Frame, r1 *T1, r2 *T2, r3 *T3) {
	if f.Back() {
		R(f, r1)
		R(f, r2)
		R(f, r3)
	}
	f.Off()
}

// End4 ends a call with 4 results.
func End4[T1, T2, T3, T4 any](f *Frame, r1 *T1, r2 *T2, r3 *T3, r4 *T4) {
	if f.Back() {
		R(f, r1)
		R(f, r2)
		R(f, r3)
		R(f, r4)
	}
	f.Off()
}

// End5 ends a call with 5 results.
func End5[T1, T2, T3, T4, T5 any](f *Frame, r1 *T1, r2 *T2, r3 *T3, r4 *T4, r5 *T5) {
	if f.Back() {
		R(f, r1)
		R(f, r2)
		R(f, r3)
		R(f, r4)
		R(f, r5)
	}
	f.Off()
}

// End6 ends a call with 6 results.
func End6[T1, T2, T3, T4, T5, T6 any](f *Frame, r1 *T1, r2 *T2, r3 *T3, r4 *T4, r5 *T5, r6 *T6) {
	if f.Back() {
		R(f, r1)
		R(f, r2)
		R(f, r3)
		R(f, r4)
		R(f, r5)
		R(f, r6)
	}
	f.Off()
}

// End7 ends a call with 7 results.
func End7[T1, T2, T3, T4, T5, T6, T7 any](f *Frame, r1 *T1, r2 *T2, r3 *T3, r4 *T4, r5 *T5, r6 *T6, r7 *T7) {
	if f.Back() {
		R(f, r1)
		R(f, r2)
		R(f, r3)
		R(f, r4)
		R(f, r5)
		R(f, r6)
		R(f, r7)
	}
	f.Off()
}

// End8 ends a call with 8 results.
func End8[T1, T2, T3, T4, T5, T6, T7, T8 any](f *Frame, r1 *T1, r2 *T2, r3 *T3, r4 *T4, r5 *T5, r6 *T6, r7 *T7, r8 *T8) {
	if f.Back() {
		R(f, r1)
		R(f, r2)
		R(f, r3)
		R(f, r4)
		R(f, r5)
		R(f, r6)
		R(f, r7)
		R(f, r8)
	}
	f.Off()
}

// End9 ends a call with 9 results.
func End9[T1, T2, T3, T4, T5, T6, T7, T8, T9 any](f *Frame, r1 *T1, r2 *T2, r3 *T3, r4 *T4, r5 *T5, r6 *T6, r7 *T7, r8 *T8, r9 *T9) {
	if f.Back() {
		R(f, r1)
		R(f, r2)
		R(f, r3)
		R(f, r4)
		R(f, r5)
		R(f, r6)
		R(f, r7)
		R(f, r8)
		R(f, r9)
	}
	f.Off()
}
