// A program that prints the truth about values of C++ and then crashes. Lines of
// its output are those of sluice.c.
#include <array>
#include <atomic>
#include <chrono>
#include <complex>
#include <cstdio>
#include <deque>
#include <forward_list>
#include <list>
#include <map>
#include <memory>
#include <optional>
#include <queue>
#include <set>
#include <string>
#include <string_view>
#include <tuple>
#include <unordered_map>
#include <unordered_set>
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

struct Moored {
  int lines = 4;
};

struct Fast : virtual Moored {
  int knots = 21;
};

struct Ferry : Fast {
  int cars = 40;
};

// Lists whose elements do not lie one after the other, and types that keep one value.
struct Store {
  std::list<std::string> queue{"Halcyon Drift", "Curlew Bank 11"};
  std::forward_list<long> marks{40, 50, 60};
  std::deque<Span<double>> soundings;
  std::deque<std::string> left;
  std::queue<int> waiting;
  std::priority_queue<int> first;
  std::vector<bool> lit;
  std::array<short, 3> three{7, 8, 9};
  std::tuple<int, std::string, double> line{3, "stern", 22.5};
  std::unordered_set<std::string> known{"Ines", "Tomas"};
  std::atomic<long> turns{77};
  std::atomic<bool> open{true};
  std::chrono::milliseconds wait{250};
  std::chrono::hours tide{6};
  std::chrono::system_clock::time_point since{std::chrono::seconds(1790000000)};
  std::complex<double> swell{1.5, -2.5};
  std::wstring wide = L"N\u00f8rre Quay";
  std::u16string narrow = u"Old Salt \U0001F6A2";
  Ferry ferry;
};

struct Quay {
  Store store;
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
#define SAY(expression, form, ...) printf("value harbour::Keeper::look quay.store." expression " " form "\n", __VA_ARGS__)
  const Store &store = quay.store;
  SAY("queue[1]", "\"%s\"", store.queue.back().c_str());
  printf("value harbour::Keeper::look size(quay.store.queue) %zu\n", store.queue.size());
  printf("value harbour::Keeper::look size(quay.store.marks) 3\n");
  SAY("marks[2]", "%ld", *std::next(store.marks.begin(), 2));
  printf("value harbour::Keeper::look size(quay.store.soundings) %zu\n", store.soundings.size());
  SAY("soundings[97].high", "%g", store.soundings[97].high);
  SAY("left[0]", "\"%s\"", store.left[0].c_str());
  printf("value harbour::Keeper::look size(quay.store.left) %zu\n", store.left.size());
  SAY("waiting[1]", "%d", store.waiting.back());
  SAY("first[0]", "%d", store.first.top());
  printf("value harbour::Keeper::look size(quay.store.lit) %zu\n", store.lit.size());
  SAY("lit[69]", "%s", store.lit[69] ? "true" : "false");
  SAY("lit[70]", "%s", store.lit[70] ? "true" : "false");
  SAY("three[2]", "%d", store.three[2]);
  SAY("line[0]", "%d", std::get<0>(store.line));
  SAY("line[1]", "\"%s\"", std::get<1>(store.line).c_str());
  SAY("line[2]", "%g", std::get<2>(store.line));
  printf("value harbour::Keeper::look \"Tomas\"@in@quay.store.known %s\n", store.known.count("Tomas") ? "true" : "false");
  printf("value harbour::Keeper::look \"Oyelaran\"@in@quay.store.known %s\n", store.known.count("Oyelaran") ? "true" : "false");
  SAY("turns", "%ld", store.turns.load());
  SAY("open", "%s", store.open ? "true" : "false");
  SAY("wait==250", "%s", store.wait == std::chrono::milliseconds(250) ? "true" : "false");
  SAY("wide", "\"%s\"", "N\u00f8rre Quay");
  SAY("narrow", "\"%s\"", "Old Salt \U0001F6A2");
  SAY("ferry.lines", "%d", store.ferry.lines);
  SAY("ferry.knots", "%d", store.ferry.knots);
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
  for (int i = 0; i < 150; i++) quay.store.soundings.push_back({i - 0.5, i + 0.5}), quay.store.left.push_front("line " + std::to_string(i)), quay.store.lit.push_back(i % 23 == 0);
  for (int i = 0; i < 40; i++) quay.store.soundings.pop_front(), quay.store.left.pop_back();
  for (int i : {3, 9, 4}) quay.store.waiting.push(i), quay.store.first.push(i);
  quay.store.waiting.pop();
  quay.store.ferry.lines = 6;
  auto tug = std::make_unique<Tug>();
  tug->pull_kn = 320;
  tug->name = "Two Sisters of Ness";
  quay.anyone = tug.get();
  quay.side = Side::starboard;
  Keeper keeper(quay, 12);
  return keeper.look("Halcyon Drift", argc > 5 ? quay.moored.get() : nullptr);
}
