/* Takes a number of threads and a number of megabytes, fills the memory, and
   crashes while all the threads wait some calls deep. */
#include <pthread.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

struct slot { int number; double level_m; struct slot *next; };

static pthread_barrier_t ready;

static int deep(struct slot *s, int depth) {
  if (depth > 0) return deep(s, depth - 1) + 1;
  pthread_barrier_wait(&ready);
  pause();
  return s->number;
}

static void *wait_deep(void *arg) {
  deep(arg, 6);
  return NULL;
}

static double last(struct slot *s) { return s->next->level_m; }

int main(int argc, char **argv) {
  int threads = argc > 1 ? atoi(argv[1]) : 0, megabytes = argc > 2 ? atoi(argv[2]) : 0;
  uint64_t x = 88172645463325252ULL;
  for (int i = 0; i < megabytes; i++) {
    uint64_t *block = malloc(1 << 20);
    for (int j = 0; j < (1 << 17); j++) {
      x ^= x << 13, x ^= x >> 7, x ^= x << 17;
      block[j] = x;
    }
  }
  pthread_barrier_init(&ready, NULL, threads + 1);
  pthread_attr_t attributes;
  pthread_attr_init(&attributes);
  pthread_attr_setstacksize(&attributes, 64 << 10);
  struct slot slots[2] = {{1, 2.5, NULL}, {2, 3.5, NULL}};
  for (int i = 0; i < threads; i++) {
    pthread_t t;
    pthread_create(&t, &attributes, wait_deep, slots);
  }
  pthread_barrier_wait(&ready);
  printf("%g\n", last(slots));
  return 0;
}
