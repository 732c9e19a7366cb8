// XXH3-128 fingerprints.
#pragma once
#include <compare>
#include <cstdint>
#include <functional>
#include <string>
#include <string_view>

namespace gc {

struct Hash128 {
  std::uint64_t hi = 0, lo = 0;
  auto operator<=>(const Hash128&) const = default;
  std::string hex() const;                        ///< 32 lower-case digits
  static Hash128 from_hex(std::string_view hex);  ///< all zero for text that is no hash
};

Hash128 hash_bytes(const void* data, std::size_t size);
inline Hash128 hash_text(std::string_view s) { return hash_bytes(s.data(), s.size()); }

/// Collects values into one hash. Each value carries its length, so that ("ab","c") and ("a","bc") differ.
class Hasher {
 public:
  Hasher& add(std::string_view s);
  Hasher& add(std::int64_t v);
  Hasher& add(Hash128 h);
  Hash128 done() const { return hash_text(buffer_); }

 private:
  std::string buffer_;
};

}  // namespace gc

template <>
struct std::hash<gc::Hash128> {
  std::size_t operator()(const gc::Hash128& h) const noexcept { return h.lo; }
};
