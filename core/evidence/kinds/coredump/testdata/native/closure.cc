// A program that crashes in a local class's function, which a closure called. Lines of its
// output are those of sluice.c.
#include <cstdio>
#include <string>

namespace harbour {

struct Gate {
  double level_m;
};

__attribute__((noinline)) double look(Gate *gate, int depth) {
  struct Keeper {
    int turns;
    __attribute__((noinline)) double level(Gate *of) {
      printf("value harbour::look::Keeper::level this.turns %d\n", turns);
      printf("value harbour::look::Keeper::level of==null true\n");
      fflush(stdout);
      return of->level_m + turns;
    }
  };
  std::string name = "Inner Ness";
  auto first = [depth] { return depth + 1; };
  auto deepen = [&name, gate, depth](int more) __attribute__((noinline)) {
    printf("value harbour::look::{lambda#2}::operator() more %d\n", more);
    printf("value harbour::look::{lambda#2}::operator() depth %d\n", depth);
    printf("value harbour::look::{lambda#2}::operator() name \"%s\"\n", name.c_str());
    printf("value harbour::look::{lambda#2}::operator() gate==null true\n");
    Keeper keeper{more + depth};
    return keeper.level(gate) + more;
  };
  return deepen(first());
}

}  // namespace harbour

int main(int argc, char **) { return static_cast<int>(harbour::look(nullptr, argc + 4)); }
