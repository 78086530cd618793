/* Maps its own file and the C library's once more, as data, and says what is where before it fails. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>

static char tides[40000]; /* without a place in the file */

static char *map(const char *path) {
  struct stat s;
  int f = open(path, O_RDONLY);
  fstat(f, &s);
  return mmap(NULL, s.st_size, PROT_READ, MAP_PRIVATE, f, 0);
}

int main(void) {
  char own[512] = {0}, line[512], libc[512] = "";
  FILE *maps = fopen("/proc/self/maps", "r");
  while (fgets(line, sizeof line, maps))
    if (strstr(line, "libc.so.6") && !libc[0]) sscanf(strchr(line, '/'), "%511s", libc);
  snprintf(own, sizeof own, "/proc/self/exe");
  char *data = map(own), *library = map(libc), *heap = malloc(100);
  char *anonymous = mmap(NULL, 8192, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  memset(anonymous, 1, 8192);
  memset(tides, 1, sizeof tides);
  printf("%p %p %p %p %p %p\n", (void *)(data + 100), (void *)(library + 100), (void *)heap, (void *)anonymous, (void *)(tides + 39000), (void *)main);
  fflush(stdout);
  abort();
}
