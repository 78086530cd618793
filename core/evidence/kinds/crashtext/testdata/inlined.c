/* Crashes in a function that is inlined into others, within a block; its handler prints
   addresses as the C library writes them. It says which frames they stand for, from main
   on: function, line, and whether it is inlined. */
#include <execinfo.h>
#include <signal.h>
#include <stdio.h>
#include <unistd.h>

#define SAY(inlined, line) (printf("%s\t%d\t%s\n", __func__, line, inlined), fflush(stdout))

static int *nothing;
static volatile int ready;

static inline __attribute__((always_inline)) int inner(int n) {
  SAY("inlined", __LINE__ + 4);
  for (int i = 0; i < n; i++) {
    int twice = 2 * i;
    if (twice >= ready) {
      return *(volatile int *)nothing + twice;
    }
  }
  return n;
}

static inline __attribute__((always_inline)) int middle(int n) {
  SAY("inlined", __LINE__ + 2);
  int sum = 3;
  sum += inner(n);
  return sum;
}

static __attribute__((noinline)) int outer(int n) {
  SAY("", __LINE__ + 2);
  volatile int kept = n;
  int sum = middle(kept);
  return sum + kept;
}

static void report(int sig) {
  void *frames[64];
  int n = backtrace(frames, 64);
  fprintf(stderr, "inlined: SIGSEGV: segmentation fault\n");
  backtrace_symbols_fd(frames + 2, n - 2, 2);
  signal(sig, SIG_DFL);
  raise(sig);
}

int main(int argc, char **argv) {
  void *first[1];
  backtrace(first, 1);
  signal(SIGSEGV, report);
  SAY("", __LINE__ + 1);
  int x = outer(argc + 6);
  return x + (argv == NULL);
}
