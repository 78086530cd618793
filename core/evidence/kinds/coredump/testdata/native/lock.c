/* A shared library: it keeps a count for each thread, and crashes in itself. Its
   output is that of sluice.c. */
#include <stdio.h>
#include <stdlib.h>

struct basin { const char *name; double level_m; struct basin *next; };

static __thread int fillings = 5;
int basins_known = 12;

__attribute__((noinline)) static double deepest(struct basin *b, int steps) {
  fillings += steps;
  printf("value deepest fillings %d\n", fillings);
  printf("value deepest basins_known %d\n", basins_known);
  printf("value deepest b.name \"%s\"\n", b->name);
  printf("value deepest steps %d\n", steps);
  printf("return deepest %p\n", __builtin_return_address(0));
  printf("address %p\n", (void *)&((struct basin *)0)->level_m);
  fflush(stdout);
  return b->next->level_m + steps;
}

double fill(const char *name, int steps) {
  struct basin *b = calloc(1, sizeof *b);
  b->name = name;
  return deepest(b, steps) + fillings;
}
