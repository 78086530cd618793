/* Crashes in the way that its argument names. */
#include <assert.h>
#include <fcntl.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

struct berth { int metres[4]; int *draught; double (*rule)(double); };

static const char sign[] = "Osprey Wall";
/* Far from the ends of the address space, so that a place 360 MB above is one that the
   processor can form, and nothing is mapped there. */
static int metres[4];

static int null_read(struct berth *b) { return *b->draught; }
static void null_write(struct berth *b) { b->metres[3] = 4; }
static double null_call(struct berth *b) { return b->rule(1.5); }
static int wild_read(struct berth *b) { return *b->draught; }
static void constant_write(char *text) { text[0] = 'o'; }
static int divide(int sum, int count) { return sum / count; }
static int beyond(int *list, long index) { return list[index]; }
static int endless(int n) { volatile char room[512]; room[0] = (char)n; return endless(n + 1) + room[0]; }
static void fail_check(int metres) { assert(metres > 3 && "too shallow"); }
static int not_executable(void) { static char data[64]; return ((int (*)(void))(uintptr_t)data)(); }
static int past_file(void) {
  int f = open("short", O_RDWR | O_CREAT, 0600);
  if (write(f, "x", 1) != 1) return 1;
  char *p = mmap(NULL, 8192, PROT_READ, MAP_SHARED, f, 0);
  return p[4096];
}
static void smash(uint64_t with) {
  volatile uint64_t *p = __builtin_frame_address(0);
  p[0] = with;
  p[1] = with;
}
static int given_back(void) {
  char *p = mmap(NULL, 8192, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  munmap(p, 8192);
  return p[10];
}
static int guarded(void) {
  char *p = mmap(NULL, 8192, PROT_NONE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  return p[10];
}

static int deepest(int *place) { return *place; }
static int deeper(int *spot) { return deepest(spot) + 1; }
static int deep(struct berth *of) { return deeper(of->draught) + 1; }
static int outer(int *from) { return deeper(from) + 1; }
__attribute__((noinline, optimize("O2"))) static int far(int *list, long index) { return list[index]; }
static void fill(char *text) { memset(text, 'x', 64); }
static int overrun(void) { char room[16]; fill(room); return room[3]; }
static void from_another(int number) {
  if (fork() == 0) {
    kill(getppid(), number);
    _exit(0);
  }
  for (;;) pause();
}
static void on_signal(int number) {
  struct berth *none = NULL;
  none->metres[0] = number;
}
static struct berth *nowhere;
static int of_global(void) { return nowhere->metres[1]; }
static int share(int total, int parts) { return total / parts; }
static void no_access(void) {
  char *p = mmap(NULL, 8192, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  mprotect(p, 8192, PROT_NONE);
  p[10] = 'x';
}
static int odd(int n);
static int even(int n) { volatile char room[512]; room[0] = (char)n; return odd(n + 1) + room[0]; }
static int odd(int n) { volatile char room[512]; room[0] = (char)n; return even(n + 1) + room[0]; }
/* What handlers do after a fault. */
static void give_up(int number) { (void)number; abort(); }
static void raise_again(int number) {
  signal(number, SIG_DFL);
  raise(number);
}
static int faults;
static void fail_too(int number) {
  if (faults++ > 0) signal(number, SIG_DFL);
  *(volatile int *)16 = number;
}
static void handle(int number, void (*with)(int), int flags) {
  struct sigaction a;
  memset(&a, 0, sizeof a);
  a.sa_handler = with;
  a.sa_flags = flags;
  sigaction(number, &a, NULL);
}

int main(int argc, char **argv) {
  const char *how = argc > 1 ? argv[1] : "";
  struct berth berth = {{1, 2, 3, 4}, NULL, NULL};
  if (!strcmp(how, "null read")) return null_read(&berth);
  if (!strcmp(how, "null write")) null_write(NULL);
  if (!strcmp(how, "null call")) return (int)null_call(&berth);
  if (!strcmp(how, "wild")) { berth.draught = (int *)0x4141414141414141; return wild_read(&berth); }
  if (!strcmp(how, "constant")) constant_write((char *)sign);
  if (!strcmp(how, "divide")) return divide(7, argc - 2);
  if (!strcmp(how, "index")) return beyond(metres, 90000000);
  if (!strcmp(how, "endless")) return endless(0);
  if (!strcmp(how, "assertion")) fail_check(2);
  if (!strcmp(how, "abort")) abort();
  if (!strcmp(how, "trap")) __builtin_trap();
  if (!strcmp(how, "data")) return not_executable();
  if (!strcmp(how, "past file")) return past_file();
  if (!strcmp(how, "given back")) return given_back();
  if (!strcmp(how, "guarded")) return guarded();
  if (!strcmp(how, "twice freed")) { char *p = malloc(100); free(p); free(p); }
  if (!strcmp(how, "smashed")) smash(0x4141414141414141);
  if (!strcmp(how, "in a handler")) { signal(SIGUSR1, on_signal); raise(SIGUSR1); }
  if (!strcmp(how, "wild call")) { berth.rule = (double (*)(double))0x700000000000; return (int)null_call(&berth); }
  if (!strcmp(how, "already null")) return outer(NULL);
  if (!strcmp(how, "already wild")) return outer((int *)0x700000000000);
  if (!strcmp(how, "member")) { berth.draught = (int *)0x700000000000; return deep(&berth); }
  if (!strcmp(how, "far")) return far(metres, 90000000);
  if (!strcmp(how, "overrun")) return overrun();
  if (!strcmp(how, "aborted by another")) from_another(SIGABRT);
  if (!strcmp(how, "ended by another")) from_another(SIGSEGV);
  if (!strcmp(how, "quit")) from_another(SIGQUIT);
  if (!strcmp(how, "sent")) kill(getpid(), SIGSEGV);
  if (!strcmp(how, "global")) return of_global();
  if (!strcmp(how, "overflow")) return share(INT32_MIN, -argc + 1);
  if (!strcmp(how, "no access")) no_access();
  if (!strcmp(how, "in turns")) return even(0);
  int flags = strstr(how, "told") != NULL ? SA_SIGINFO : 0;
  if (!strncmp(how, "gave up reading", 15)) { handle(SIGSEGV, give_up, flags); return null_read(&berth); }
  if (!strncmp(how, "gave up dividing", 16)) { handle(SIGFPE, give_up, flags); return divide(7, argc - 2); }
  if (!strncmp(how, "raised again", 12)) { handle(SIGSEGV, raise_again, flags); return null_read(&berth); }
  if (!strncmp(how, "failed too", 10)) { handle(SIGSEGV, fail_too, flags | SA_NODEFER); return null_read(&berth); }
  if (!strncmp(how, "aborted", 7)) { handle(SIGABRT, raise_again, flags); fail_check(2); }
  return 0;
}
