/* Threads that wait for everything that the C library lets threads wait for. The first ones hold a lock each and wait for
   that of the next one, in a ring; what each waits for is printed. */
#define _GNU_SOURCE
#include <pthread.h>
#include <semaphore.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/syscall.h>
#include <unistd.h>

struct berth { int number; pthread_mutex_t lock; };
static struct berth berths[64];
static int ring;
static pthread_rwlock_t table = PTHREAD_RWLOCK_INITIALIZER;
static pthread_cond_t tide = PTHREAD_COND_INITIALIZER;
static pthread_mutex_t gauge = PTHREAD_MUTEX_INITIALIZER;
static sem_t cranes;
static pthread_barrier_t sluice, all;
static pthread_t scribe;
static int lines[2];
static int scribe_id;

static int self(void) { return (int)syscall(SYS_gettid); }

static void tells(const char *on) { printf("waits %d %s\n", self(), on); fflush(stdout); }

static int ids[64];

static void *moves(void *p) {
  long i = (long)p;
  ids[i] = self();
  pthread_mutex_lock(&berths[i].lock);
  pthread_barrier_wait(&all);
  printf("waits %d mutex %d\n", self(), ids[(i + 1) % ring]);
  fflush(stdout);
  pthread_mutex_lock(&berths[(i + 1) % ring].lock);
  return 0;
}
static void *queues(void *p) {
  (void)p;
  printf("waits %d mutex %d\n", self(), ids[0]);
  fflush(stdout);
  pthread_mutex_lock(&berths[0].lock);
  return 0;
}
static void *writes(void *p) { (void)p; scribe_id = self(); pthread_rwlock_wrlock(&table); tells("timer"); sleep(1000); return 0; }
static void *reads(void *p) { (void)p; printf("waits %d read-write-lock %d\n", self(), scribe_id); fflush(stdout); pthread_rwlock_rdlock(&table); return 0; }
static void *watches(void *p) { (void)p; tells("condition"); pthread_mutex_lock(&gauge); pthread_cond_wait(&tide, &gauge); return 0; }
static void *lifts(void *p) { (void)p; tells("semaphore"); sem_wait(&cranes); return 0; }
static void *meets(void *p) { (void)p; tells("barrier"); pthread_barrier_wait(&sluice); return 0; }
static void *joins(void *p) { (void)p; printf("waits %d thread %d\n", self(), scribe_id); fflush(stdout); pthread_join(scribe, 0); return 0; }
static void *listens(void *p) { char c; (void)p; tells("input"); return (void *)(long)read(lines[0], &c, 1); }

int main(int argc, char **argv) {
  pthread_t t;
  ring = argc > 1 ? atoi(argv[1]) : 2;
  pthread_barrier_init(&all, 0, (unsigned)ring + 1);
  pthread_barrier_init(&sluice, 0, 2);
  sem_init(&cranes, 0, 0);
  if (pipe(lines)) return 1;
  for (long i = 0; i < ring; i++) {
    pthread_mutex_init(&berths[i].lock, 0);
    pthread_create(&t, 0, moves, (void *)i);
  }
  pthread_barrier_wait(&all);
  pthread_create(&scribe, 0, writes, 0);
  usleep(50000);
  void *(*others[])(void *) = {queues, reads, watches, lifts, meets, joins, listens};
  for (unsigned i = 0; i < sizeof others / sizeof *others; i++) pthread_create(&t, 0, others[i], 0);
  usleep(1500000);
  abort();
}
