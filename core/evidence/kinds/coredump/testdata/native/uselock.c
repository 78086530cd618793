/* Uses the library that lock.c is. */
#include <stdio.h>

double fill(const char *name, int steps);

static __thread long own = 3;

int main(void) {
  own++;
  double d = fill("Inner Ness", 4);
  printf("%g %ld\n", d, own);
  return 0;
}
