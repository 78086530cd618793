// A program that prints the truth about values of C++ and then crashes. Lines of
// its output are those of sluice.c.
#include <array>
#include <cstdio>
#include <list>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <unordered_map>
#include <variant>
#include <vector>

namespace harbour {

enum class Side { port = 1, starboard = 2 };

struct Named {
  virtual ~Named() = default;
  virtual int rank() const { return 0; }
  std::string name;
};

struct Vessel : Named {
  double draught_m = 0;
  int rank() const override { return 7; }
};

struct Tug : Vessel {
  long pull_kn = 0;
};

template <typename T>
struct Span {
  T low, high;
};

struct Quay {
  std::string name;
  std::string about;
  std::vector<int> berths;
  std::vector<std::string> gates;
  std::map<std::string, int> depths;
  std::unordered_map<int, std::string> pilots;
  std::set<long> tides;
  std::optional<double> sill, none;
  std::variant<int, std::string> mark;
  std::unique_ptr<Vessel> moored;
  std::shared_ptr<Vessel> next, left;
  std::string_view view;
  Span<short> span;
  std::array<int, 3> three;
  Named *anyone = nullptr;
  Side side = Side::port;
  bool open = false;
};

class Keeper {
 public:
  Quay &quay;
  int turns;
  explicit Keeper(Quay &q, int t) : quay(q), turns(t) {}
  __attribute__((noinline)) int look(const std::string &who, Vessel *missing);
};

int Keeper::look(const std::string &who, Vessel *missing) {
  printf("value harbour::Keeper::look this.turns %d\n", turns);
  printf("value harbour::Keeper::look who \"%s\"\n", who.c_str());
  printf("value harbour::Keeper::look quay.name \"%s\"\n", quay.name.c_str());
  printf("value harbour::Keeper::look quay.about \"%s\"\n", quay.about.c_str());
  printf("value harbour::Keeper::look quay.berths[3] %d\n", quay.berths[3]);
  printf("value harbour::Keeper::look size(quay.berths) %zu\n", quay.berths.size());
  printf("value harbour::Keeper::look quay.gates[1] \"%s\"\n", quay.gates[1].c_str());
  printf("value harbour::Keeper::look quay.depths[\"Kelp@Quay@17\"] %d\n", quay.depths["Kelp Quay 17"]);
  printf("value harbour::Keeper::look size(quay.depths) %zu\n", quay.depths.size());
  printf("value harbour::Keeper::look quay.pilots[31] \"%s\"\n", quay.pilots[31].c_str());
  printf("value harbour::Keeper::look size(quay.pilots) %zu\n", quay.pilots.size());
  printf("value harbour::Keeper::look size(quay.tides) %zu\n", quay.tides.size());
  printf("value harbour::Keeper::look quay.sill %g\n", *quay.sill);
  printf("value harbour::Keeper::look quay.none==null true\n");
  printf("value harbour::Keeper::look quay.mark \"%s\"\n", std::get<std::string>(quay.mark).c_str());
  printf("value harbour::Keeper::look quay.moored.draught_m %g\n", quay.moored->draught_m);
  printf("value harbour::Keeper::look quay.next.draught_m %g\n", quay.next->draught_m);
  printf("value harbour::Keeper::look quay.left==null true\n");
  printf("value harbour::Keeper::look quay.view \"%s\"\n", std::string(quay.view).c_str());
  printf("value harbour::Keeper::look quay.span.high %d\n", quay.span.high);
  printf("value harbour::Keeper::look quay.anyone.pull_kn %ld\n", static_cast<Tug *>(quay.anyone)->pull_kn);
  printf("value harbour::Keeper::look quay.anyone.name \"%s\"\n", quay.anyone->name.c_str());
  printf("value harbour::Keeper::look quay.side %d\n", static_cast<int>(quay.side));
  printf("value harbour::Keeper::look missing==null true\n");
  printf("address %p\n", (void *)nullptr);
  fflush(stdout);
  return missing->rank() + quay.berths[0];
}

}  // namespace harbour

static harbour::Quay quay;

int main(int argc, char **) {
  using namespace harbour;
  quay.name = "Kelp Quay";
  quay.about = "a name that is too long to be kept in the object itself";
  quay.berths = {1, 2, 3, 44, 5};
  quay.gates = {"outer", "inner gate"};
  for (int i = 0; i < 40; i++) quay.depths["Kelp Quay " + std::to_string(i)] = i * i;
  for (int i = 0; i < 50; i++) quay.pilots[i] = "pilot " + std::to_string(i), quay.tides.insert(i % 20);
  quay.sill = 1.75;
  quay.mark = std::string("red");
  quay.moored = std::make_unique<Vessel>();
  quay.moored->draught_m = 4.5;
  quay.next = std::make_shared<Vessel>();
  quay.next->draught_m = 6.25;
  quay.view = "Old Salt Stage";
  quay.span = {3, 9};
  quay.three = {7, 8, 9};
  auto tug = std::make_unique<Tug>();
  tug->pull_kn = 320;
  tug->name = "Two Sisters of Ness";
  quay.anyone = tug.get();
  quay.side = Side::starboard;
  Keeper keeper(quay, 12);
  return keeper.look("Halcyon Drift", argc > 5 ? quay.moored.get() : nullptr);
}
