// Holds values in what the standard library has for any function, value or bit, and ends.
#include <functional>
#include <any>
#include <bitset>
#include <initializer_list>
#include <memory>
#include <mutex>
#include <string>
#include <vector>
#include <atomic>
#include <cstdlib>
#include <optional>
#include <chrono>
#include <filesystem>
struct quay { int depth; std::string name; quay(int d, const char *n) : depth(d), name(n) {} int deeper(int n) { return depth + n; } virtual int best() { return depth; } };
int twice(int n) { return n * 2; }
int show(std::initializer_list<int> list) {
  quay q{4, "Kelp"};
  std::function<int(int)> empty, plain = twice, lambda = [&q, k = 7](int n) { return n + q.depth + k; };
  std::any nothing, number = 42, text = std::string("Osprey Wall, at the mouth of the sound"), big = q;
  std::bitset<12> bits(0xa5); std::bitset<100> wide; wide[99] = 1; wide[3] = 1;
  int quay::*member = &quay::depth; int (quay::*method)(int) = &quay::deeper; int (quay::*virt)() = &quay::best; int quay::*none = nullptr;
  auto shared = std::make_shared<quay>(q); std::weak_ptr<quay> weak = shared, expired; { auto t = std::make_shared<quay>(q); expired = t; } auto shared2 = shared;
  std::mutex m, held; held.lock(); std::recursive_mutex rm; rm.lock();
  std::wstring ws = L"Gannet Søund"; std::u16string u16 = u"tide"; std::u32string u32 = U"Ebb"; const wchar_t *wp = L"wide pointer";
  std::atomic<int> at{5}; std::vector<bool> vb{true, false, true};
  std::chrono::milliseconds ms(1500); std::filesystem::path path("/srv/gannet");
  std::string moved = "Curlew Bank 11, long enough to be on the heap"; std::string to = std::move(moved);
  std::unique_ptr<quay> up = std::make_unique<quay>(q), gone = std::move(up);
  abort();
}
int main() { return show({3, 1, 4}); }
