/* Allocates and frees at random on several threads, says what is where, and ends as its argument asks. */
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { SLOTS = 400, THREADS = 3 };

struct slot { void *at; size_t size; int freed; };
static struct slot all[THREADS][4000];
static int counts[THREADS];
static pthread_mutex_t hold = PTHREAD_MUTEX_INITIALIZER;
static pthread_barrier_t done;

static unsigned next(unsigned *seed) { return *seed = *seed * 1103515245u + 12345u, *seed >> 8; }

static size_t some_size(unsigned *seed) {
  switch (next(seed) % 8) {
    case 0: return next(seed) % 2000;
    case 1: return 1024 + next(seed) % 60000;
    case 2: return next(seed) % 40 == 0 ? 200000 + next(seed) % 300000 : 24;
    default: return 1 + next(seed) % 200;
  }
}

static void *work(void *of) {
  int thread = (int)(long)of;
  unsigned seed = 77 + thread;
  struct slot slots[SLOTS];
  memset(slots, 0, sizeof slots);
  for (int i = 0; i < 6000; i++) {
    struct slot *s = &slots[next(&seed) % SLOTS];
    if (s->at && !s->freed) {
      free(s->at);
      s->freed = 1;
    } else {
      s->size = some_size(&seed);
      s->at = malloc(s->size);
      memset(s->at, 'x', s->size);
      s->freed = 0;
    }
  }
  for (int i = 0; i < SLOTS; i++)
    if (slots[i].at) all[thread][counts[thread]++] = slots[i];
  pthread_barrier_wait(&done);
  pthread_mutex_lock(&hold);
  return NULL;
}

struct vessel { char name[24]; double draught; };

static void end(const char *how) {
  struct vessel *kept[4];
  for (int i = 0; i < 4; i++) {
    kept[i] = malloc(sizeof *kept[i]);
    strcpy(kept[i]->name, "Kittiwake");
  }
  if (!strcmp(how, "twice")) {
    free(kept[1]);
    free(kept[1]);
  }
  if (!strcmp(how, "beyond")) {
    memset(kept[2], 'x', sizeof *kept[2] + 16);
    for (int i = 0; i < 4; i++) free(kept[i]);
  }
  abort();
}

int main(int argc, char **argv) {
  const char *how = argc > 1 ? argv[1] : "";
  if (!strcmp(how, "random")) {
    pthread_t threads[THREADS];
    pthread_mutex_lock(&hold);
    pthread_barrier_init(&done, NULL, THREADS + 1);
    for (long i = 0; i < THREADS; i++) pthread_create(&threads[i], NULL, work, (void *)i);
    pthread_barrier_wait(&done);
    for (int t = 0; t < THREADS; t++)
      for (int i = 0; i < counts[t]; i++) printf("%p %zu %d\n", all[t][i].at, all[t][i].size, all[t][i].freed);
    fflush(stdout);
  }
  end(how);
}
