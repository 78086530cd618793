/* Crashes three calls deep; its handler prints the frames as the C library writes
   them, and which lines they have to be. */
#include <execinfo.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

struct gate { int level; };

static struct gate *find(int n) { return n > 2 ? NULL : malloc(sizeof(struct gate)); }

__attribute__((noinline)) int level(int n) {
    printf("frame\tlevel\tsluice.c\t%d\n", __LINE__ + 2); fflush(stdout);
    struct gate *g = find(n);
    return g->level + 1;
}

__attribute__((noinline)) int open_gate(int n) {
    printf("frame\topen_gate\tsluice.c\t%d\n", __LINE__ + 1); fflush(stdout);
    int x = level(n);
    return x * 2;
}

static void report(int sig) {
    void *frames[64];
    int n = backtrace(frames, 64);
    fprintf(stderr, "sluice: SIGSEGV: segmentation fault\n");
    backtrace_symbols_fd(frames + 2, n - 2, 2);
    signal(sig, SIG_DFL);
    raise(sig);
}

int main(int argc, char **argv) {
    void *first[1];
    backtrace(first, 1);
    signal(SIGSEGV, report);
    printf("frame\tmain\tsluice.c\t%d\n", __LINE__ + 1); fflush(stdout);
    return open_gate(argc + 6);
}
