/* Prints what is at some of its addresses, leaves a thread waiting for a mutex that
   another holds, and crashes. Lines of its output: "at ADDRESS WHAT" for memory,
   "holders ADDRESS COUNT" for a pointer and how often it is kept in static memory,
   "waits THREAD MUTEX OWNER" for the thread that waits. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <unistd.h>

struct mooring { uint64_t mark; struct mooring *next; int metres[6]; };

static struct mooring first = {0x1122334455667788ULL, 0, {1, 2, 3, 4, 5, 6}};
static struct mooring *kept[5] = {&first, &first, 0, &first, 0};
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static volatile int holding, waiting;

static long number(void) { return syscall(SYS_gettid); }

static void *hold(void *unused) {
  (void)unused;
  pthread_mutex_lock(&lock);
  holding = (int)number();
  for (;;) pause();
}

static void *want(void *unused) {
  (void)unused;
  while (!holding) usleep(1000);
  waiting = (int)number();
  pthread_mutex_lock(&lock);
  return NULL;
}

__attribute__((noinline)) static int sound(struct mooring *m, int n) {
  if (n > 0) return sound(m, n - 1) + m->metres[n % 6];
  return m->next->metres[0];
}

int main(int argc, char **argv) {
  pthread_t threads[2];
  pthread_create(&threads[0], NULL, hold, NULL);
  pthread_create(&threads[1], NULL, want, NULL);
  while (!waiting) usleep(1000);
  usleep(200 * 1000); /* it waits in the kernel then */
  struct mooring *heap = malloc(sizeof *heap);
  memset(heap, 7, sizeof *heap);
  int file = open("chart", O_RDWR | O_CREAT, 0600);
  if (ftruncate(file, 4096) != 0) return 1;
  char *mapped = mmap(NULL, 4096, PROT_READ | PROT_WRITE, MAP_PRIVATE, file, 0);
  mapped[0] = 'c';
  char *made = mmap(NULL, 4096, PROT_READ | PROT_WRITE | PROT_EXEC, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  made[0] = (char)0xc3;
  char *own = mmap(NULL, 4096, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  char *apart = mmap(NULL, 3 * 4096, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  own[0] = 1;
  munmap(apart + 4096, 4096);
  printf("at %p %s, first\n", (void *)&first, program_invocation_short_name);
  printf("at %p %s, first + 16\n", (void *)first.metres, program_invocation_short_name);
  printf("at %p %s, sound\n", (void *)(uintptr_t)sound, program_invocation_short_name);
  printf("at %p the heap\n", (void *)heap);
  printf("at %p the stack of thread %ld\n", (void *)threads, number());
  printf("at %p code that was made at run time\n", (void *)made);
  printf("at %p memory that the program mapped\n", (void *)own);
  printf("at %p unmapped memory\n", (void *)(apart + 4096));
  printf("at %p the mapped file %s/chart\n", (void *)mapped, get_current_dir_name());
  printf("holders %p 3\n", (void *)&first);
  printf("waits %d %p %d\n", waiting, (void *)&lock, holding);
  fflush(stdout);
  return sound(kept[argc - 1], 4) + (argv[0] != NULL);
}
