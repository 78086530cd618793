// Values that are seldom seen: views, paths, flags, functions, and what addresses are
// taken for. Lines of its output are those of sluice.c.
#include <bitset>
#include <cstdio>
#include <deque>
#include <filesystem>
#include <functional>
#include <initializer_list>
#include <map>
#include <memory>
#include <set>
#include <span>
#include <string>
#include <vector>

enum Marks { LIT = 1, DREDGED = 2, TIDAL = 4, SHELTERED = 8 };

struct Place {
  short row, column;
  bool operator<(const Place &o) const { return row < o.row || (row == o.row && column < o.column); }
};

struct Base {
  virtual ~Base() = default;
  int base_m = 3;
};

struct Left : virtual Base {
  int left_m = 5;
};

struct Right : virtual Base {
  int right_m = 7;
};

struct Both : Left, Right {
  int both_m = 11;
};

union Reading {
  int whole;
  float part;
};

static int sounding(int x) { return x + 1; }

struct Odd {
  std::span<int> view;
  std::span<int, 3> three;
  std::filesystem::path chart;
  Marks marks;
  Marks none;
  Marks unnamed;
  int (*rule)(int);
  int Both::*member;
  Both *both;
  Base *base;
  Left *left;
  Right *right;
  std::map<Place, std::string> berths;
  std::set<Place> taken;
  std::multimap<int, char> repeated;
  std::vector<std::vector<int>> grid;
  std::deque<std::string> names;
  std::unique_ptr<int[]> several;
  std::weak_ptr<int> weak;
  std::shared_ptr<int> shared, none_shared;
  std::function<int(int)> task;
  std::bitset<70> bits;
  std::nullptr_t nought;
  const int &reference;
  Reading readings[2];
  int cube[2][3][4];
  unsigned char raw[5];
  volatile const char *const text;
  wchar_t wide[4];
};

static int numbers[8] = {10, 11, 12, 13, 14, 15, 16, 17};

#define SAY(expression, format, value) printf("value look odd." expression " " format "\n", value)

__attribute__((noinline)) static int look(Odd &odd, const int *missing) {
  SAY("view[4]", "%d", odd.view[4]);
  printf("value look size(odd.view) %zu\n", odd.view.size());
  SAY("three[2]", "%d", odd.three[2]);
  printf("value look size(odd.three) 3\n");
  SAY("chart", "\"%s\"", odd.chart.c_str());
  SAY("marks", "%d", odd.marks);
  SAY("none", "%d", odd.none);
  SAY("unnamed", "%d", odd.unnamed);
  SAY("both.base_m", "%d", odd.both->base_m);
  SAY("both.left_m", "%d", odd.both->left_m);
  SAY("both.right_m", "%d", odd.both->right_m);
  SAY("both.both_m", "%d", odd.both->both_m);
  SAY("base.base_m", "%d", odd.base->base_m);
  SAY("left.base_m", "%d", odd.left->base_m);
  SAY("right.base_m", "%d", odd.right->base_m);
  SAY("base.both_m", "%d", 11);
  SAY("left.both_m", "%d", 11);
  SAY("right.both_m", "%d", 11);
  printf("value look size(odd.berths) %zu\n", odd.berths.size());
  printf("value look size(odd.taken) %zu\n", odd.taken.size());
  printf("value look size(odd.repeated) %zu\n", odd.repeated.size());
  printf("value look size(odd.grid) %zu\n", odd.grid.size());
  SAY("grid[2][1]", "%d", odd.grid[2][1]);
  SAY("names[9]", "\"%s\"", odd.names[9].c_str());
  printf("value look size(odd.names) %zu\n", odd.names.size());
  SAY("readings[1].whole", "%d", odd.readings[1].whole);
  SAY("cube[1][2][3]", "%d", odd.cube[1][2][3]);
  SAY("cube[0][1][2]", "%d", odd.cube[0][1][2]);
  SAY("raw[4]", "%d", odd.raw[4]);
  SAY("reference", "%d", odd.reference);
  SAY("nought==null", "%s", "true");
  SAY("none_shared==null", "%s", "true");
  printf("value look cast(%lu,\"Both\").both_m %d\n", (unsigned long)odd.both, odd.both->both_m);
  printf("value look cast(%lu,\"Both*\").right_m %d\n", (unsigned long)odd.both, odd.both->right_m);
  printf("value look cast(%lu,\"Both@*\")==null true\n", 0UL);
  printf("value look hex(cast(%lu,\"Both*\")) \"%p\"\n", (unsigned long)odd.both, (void *)odd.both);
  printf("value look hex(odd.rule) \"%p\"\n", (void *)odd.rule);
  printf("address %p\n", (const void *)missing);
  fflush(stdout);
  return *missing + odd.rule(1);
}

int main(int argc, char **) {
  static const int kept = 99;
  Both both;
  Odd odd{.view = numbers, .three = std::span<int, 3>(numbers + 2, 3), .chart = "/var/lib/gannet/charts/outer sound.chart", .marks = Marks(LIT | TIDAL), .none = Marks(0), .unnamed = Marks(64 + 1), .rule = sounding, .member = &Both::both_m,
          .both = &both, .base = &both, .left = &both, .right = &both, .berths = {{{1, 2}, "Kelp"}, {{0, 9}, "Osprey"}}, .taken = {{3, 3}, {1, 1}, {2, 2}}, .repeated = {{1, 'a'}, {1, 'b'}, {2, 'c'}},
          .grid = {{1}, {}, {4, 5, 6}}, .names = {}, .several = std::make_unique<int[]>(3), .weak = {}, .shared = std::make_shared<int>(8), .none_shared = nullptr, .task = sounding, .bits = 5, .nought = nullptr,
          .reference = kept, .readings = {{1}, {1078530011}}, .cube = {}, .raw = {1, 2, 3, 4, 250}, .text = "slack", .wide = L"ebb"};
  for (int i = 0; i < 24; i++) (&odd.cube[0][0][0])[i] = i * i;
  for (int i = 0; i < 40; i++) odd.names.push_back("buoy " + std::to_string(i));
  odd.weak = odd.shared;
  return look(odd, argc > 5 ? numbers : nullptr);
}
