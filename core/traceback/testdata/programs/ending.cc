// ending ends in the way that its argument names, and tells before what its text has
// to say: the error, and for an assertion the place.
#include <cassert>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <stdexcept>

static void *volatile kept;

static int level(int gate) {
	printf("frame\tlevel\t%s\t%d\n", __FILE__, __LINE__ + 2);
	fflush(stdout);
	assert(gate < 2);
	return gate;
}

int main(int, char **arg) {
	if (!strcmp(arg[1], "thrown")) {
		printf("cause\tstd::out_of_range\tgate 7\n");
		fflush(stdout);
		throw std::out_of_range("gate 7");
	}
	if (!strcmp(arg[1], "assertion")) {
		printf("cause\tassertion\tAssertion `gate < 2' failed\n");
		return level(7);
	}
	if (!strcmp(arg[1], "heap")) {
		printf("cause\tabort\tfree(): double free detected in tcache 2\n");
		fflush(stdout);
		kept = malloc(32);
		free(kept);
		free(kept);
	}
	if (!strcmp(arg[1], "fault")) {
		printf("frame\tmain\t%s\t%d\n", __FILE__, __LINE__ + 2);
		fflush(stdout);
		*(volatile int *)0x18 = 3;
	}
	return 0;
}
