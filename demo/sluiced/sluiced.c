/* sluiced opens and closes the lock gates of Gannet Sound from the readings of
   their sensors. One thread keeps the levels, another one moves the gates. All
   names and figures are invented. */
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum state { SHUT, OPENING, OPEN, CLOSING };

struct sensor {
  int id;
  double level_m;
};

struct gate {
  char name[24];
  const char *berth;
  enum state state;
  double sill_m;
  struct sensor *sensor;
  struct gate *next;
};

struct lock_chain {
  const char *station;
  struct gate *gates;
  int count;
  pthread_mutex_t guard;
};

static struct lock_chain chain = {.station = "Inner Ness", .guard = PTHREAD_MUTEX_INITIALIZER};
static pthread_barrier_t ready;
static double tide_m = 3.2;

static void add_gate(const char *name, const char *berth, double sill_m, struct sensor *sensor) {
  struct gate *g = calloc(1, sizeof *g);
  snprintf(g->name, sizeof g->name, "%s", name);
  g->berth = berth;
  g->sill_m = sill_m;
  g->sensor = sensor;
  g->next = chain.gates;
  chain.gates = g;
  chain.count++;
}

static struct sensor *new_sensor(int id, double level_m) {
  struct sensor *s = malloc(sizeof *s);
  s->id = id;
  s->level_m = level_m;
  return s;
}

/* Gates are built from the harbour's list. The sensor of Skerry Gut was taken out
   for repair, and its gate stayed on the list. */
static void build_chain(void) {
  add_gate("outer gate", "Osprey Wall", 1.8, new_sensor(11, 3.1));
  add_gate("Skerry Gut gate", "Old Salt Stage", 2.1, NULL);
  add_gate("Kelp gate", "Kelp Quay 2", 2.4, new_sensor(13, 2.9));
  add_gate("inner gate", "Kelp Quay 4", 2.0, new_sensor(14, 3.3));
}

static double level_over_sill(const struct gate *gate) {
  double level = gate->sensor->level_m;
  return level - gate->sill_m;
}

static int may_open(const struct gate *gate, double margin_m) {
  double over = level_over_sill(gate);
  return over > margin_m && tide_m > gate->sill_m;
}

static int sweep(struct lock_chain *c, double margin_m) {
  int moved = 0;
  for (struct gate *g = c->gates; g; g = g->next) {
    if (may_open(g, margin_m)) {
      g->state = OPENING;
      moved++;
    }
  }
  return moved;
}

static void *move_gates(void *arg) {
  struct lock_chain *c = arg;
  pthread_barrier_wait(&ready);
  pthread_mutex_lock(&c->guard);
  int moved = sweep(c, 0.4);
  pthread_mutex_unlock(&c->guard);
  printf("%d gates move\n", moved);
  return NULL;
}

static void *keep_levels(void *arg) {
  struct lock_chain *c = arg;
  pthread_barrier_wait(&ready);
  for (;;) {
    pthread_mutex_lock(&c->guard);
    tide_m += 0.01;
    pthread_mutex_unlock(&c->guard);
    usleep(1000);
  }
}

int main(void) {
  pthread_t mover, keeper;
  build_chain();
  printf("sluiced at %s: %d gates\n", chain.station, chain.count);
  fflush(stdout);
  pthread_barrier_init(&ready, NULL, 2);
  pthread_create(&keeper, NULL, keep_levels, &chain);
  pthread_create(&mover, NULL, move_gates, &chain);
  pthread_join(mover, NULL);
  return 0;
}
