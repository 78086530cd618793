/* A program that prints the truth about itself and then crashes. Lines of its
   output: "value FUNCTION EXPRESSION TEXT" for what an expression is in the frame of
   a function, "return FUNCTION ADDRESS" for where the function returns to,
   "address 0x…" for the address that the crash uses. */
#include <pthread.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum state { SHUT, OPENING = 4, OPEN = 8 };

struct sensor { int id; double level_m; };

union reading { int32_t whole; float part; unsigned char bytes[4]; };

typedef struct office office; /* defined nowhere */

struct gate {
  office *kept_by;
  char name[16];
  const char *berth;
  struct gate *next;
  struct sensor *sensor;
  enum state state;
  unsigned wide : 3;
  int offset : 5;
  unsigned : 0;
  unsigned long long mask : 40;
  int marks[4];
  double grid[2][3];
  long double fall_m;
  union reading last;
  struct { short low, high; } span;
  double (*rule)(double);
  int count;
  int tail[];
};

static struct gate *all;
int opened = 41;
static __thread long turns = 7;
static int depths_cm[] = {310, 290, 330, 275};
static int *depths = depths_cm;
static const char *const harbour = "Gannet Sound";

#define NOINLINE __attribute__((noinline, noclone, noipa))
#define RETURN(f) printf("return " f " %p\n", __builtin_return_address(0))

static double doubled(double x) { return 2 * x; }

static struct gate *gate(int i) {
  struct gate *g = calloc(1, sizeof *g + 3 * sizeof(int));
  snprintf(g->name, sizeof g->name, "gate %d", i);
  g->berth = i % 2 ? "Kelp Quay" : "Osprey Wall";
  g->state = i % 2 ? OPENING : SHUT;
  g->wide = 5;
  g->offset = -9;
  g->mask = 0x1234567890ULL;
  g->marks[2] = 7 * i;
  g->grid[1][2] = 2.5;
  g->fall_m = -1234.5L - i;
  g->last.part = 1.0f;
  g->span.low = -3;
  g->span.high = 300;
  g->rule = doubled;
  g->count = 3;
  g->kept_by = (office *)g;
  g->tail[2] = 99;
  if (i != 1) {
    g->sensor = malloc(sizeof *g->sensor);
    g->sensor->id = i;
    g->sensor->level_m = 1.25 * i;
  }
  return g;
}

NOINLINE double level_of(struct gate *g, int depth, float trim) {
  RETURN("level_of");
  if (!g->sensor) {
    printf("value level_of g.name \"%s\"\n", g->name);
    printf("value level_of g.berth \"%s\"\n", g->berth);
    printf("value level_of g.state %d\n", g->state);
    printf("value level_of g.wide %u\n", g->wide);
    printf("value level_of g.offset %d\n", g->offset);
    printf("value level_of g.mask %llu\n", (unsigned long long)g->mask);
    printf("value level_of g.marks[2] %d\n", g->marks[2]);
    printf("value level_of g.grid[1][2] %g\n", g->grid[1][2]);
    printf("value level_of g.fall_m %Lg\n", g->fall_m);
    printf("value level_of g.last.whole %d\n", g->last.whole);
    printf("value level_of g.last.part %g\n", g->last.part);
    printf("value level_of g.span.low %d\n", g->span.low);
    printf("value level_of g.span.high %d\n", g->span.high);
    printf("value level_of hex(g) \"%p\"\n", (void *)g);
    printf("value level_of g.sensor==null true\n");
    printf("value level_of hex(g.kept_by) \"%p\"\n", (void *)g);
    printf("value level_of g.kept_by 0x%lx\n", (unsigned long)g);
    printf("value level_of g.next.sensor.id %d\n", g->next->sensor->id);
    printf("value level_of g.next.sensor.level_m %g\n", g->next->sensor->level_m);
    printf("value level_of depth %d\n", depth);
    printf("value level_of trim %g\n", trim);
    printf("value level_of opened %d\n", opened);
    printf("value level_of g.tail[2] %d\n", g->tail[2]);
    printf("value level_of depths[3] %d\n", depths[3]);
    printf("value level_of turns %ld\n", turns);
    printf("value level_of harbour \"%s\"\n", harbour);
    printf("value level_of cast(%lu,\"struct@gate\").name \"%s\"\n", (unsigned long)all, all->name);
    printf("address %p\n", (void *)&((struct sensor *)0)->level_m);
    fflush(stdout);
  }
  return g->sensor->level_m + trim + depth;
}

NOINLINE double sweep(struct gate *first, int n) {
  RETURN("sweep");
  double sum = 0;
  int lengths[n];
  for (int i = 0; i < n; i++) lengths[i] = 10 * i;
  printf("value sweep n %d\n", n);
  printf("value sweep lengths[2] %d\n", lengths[2]);
  for (struct gate *g = first; g; g = g->next) {
    turns++;
    sum += level_of(g, lengths[2], 0.5f) + g->rule(1);
  }
  return sum + lengths[n - 1];
}

static int compare(const void *a, const void *b) {
  (void)a, (void)b;
  return sweep(all, 5) > 0;
}

static pthread_barrier_t started;

static void *watch(void *arg) {
  (void)arg;
  pthread_barrier_wait(&started);
  for (;;) pause();
}

int main(void) {
  pthread_t t;
  pthread_barrier_init(&started, NULL, 2);
  pthread_create(&t, NULL, watch, NULL);
  pthread_barrier_wait(&started);
  for (int i = 0; i < 3; i++) {
    struct gate *g = gate(i);
    g->next = all;
    all = g;
  }
  int two[2] = {2, 1}; /* the crash is below the C library's own frames */
  qsort(two, 2, sizeof two[0], compare);
  return 0;
}
