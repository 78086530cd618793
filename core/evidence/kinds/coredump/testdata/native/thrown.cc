// Ends by an exception that nothing catches, in the way that its argument names.
#include <cstring>
#include <exception>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

namespace harbour {

struct NoBerth : std::runtime_error {
  int metres;
  NoBerth(const std::string &why, int m) : std::runtime_error(why), metres(m) {}
};

struct Deep : NoBerth {
  using NoBerth::NoBerth;
};

struct Note {
  long number = 4;
};

struct Second : std::runtime_error, Note {
  using std::runtime_error::runtime_error;
};

struct Vessel {
  Vessel() { measure(); }
  virtual ~Vessel() {}
  virtual double draught() = 0;
  void measure() { draught(); }
};

struct Tug : Vessel {
  double draught() override { return 3.1; }
};

struct Plain {
  int code;
};

__attribute__((noinline)) void assign(const char *how, std::vector<int> &berths) {
  auto is = [how](const char *what) { return !strcmp(how, what); };
  if (is("derived")) throw NoBerth("no berth for Curlew Bank 11", 3);
  if (is("deep")) throw Deep("deeper", 3);
  if (is("second")) throw Second("by its first base");
  if (is("range")) berths.at(7);
  if (is("text")) throw "thrown text";
  if (is("number")) throw -42;
  if (is("string")) throw std::string("a text longer than sixteen characters");
  if (is("plain")) throw Plain{7};
  if (is("alloc")) throw std::bad_alloc();
  if (is("nested")) {
    try {
      throw std::out_of_range("row 7 of 5");
    } catch (...) {
      std::throw_with_nested(std::runtime_error("notice 12 cannot be read"));
    }
  }
  if (is("pure")) Tug();
  if (is("noexcept")) [&]() noexcept { throw std::logic_error("left what may not be left"); }();
  if (is("rethrow")) {
    try {
      berths.at(9);
    } catch (...) {
      throw;
    }
  }
  if (is("kept")) {
    std::exception_ptr kept = std::make_exception_ptr(std::runtime_error("kept for later"));
    std::rethrow_exception(kept);
  }
  if (is("thread")) std::thread late([] {});
  if (is("terminate")) std::terminate();
}

}  // namespace harbour

int main(int, char **argv) {
  std::vector<int> berths{1, 2};
  harbour::assign(argv[1], berths);
}
