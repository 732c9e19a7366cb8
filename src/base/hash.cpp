#include "base/hash.h"

#include <fmt/format.h>
#include <xxhash.h>

#include <charconv>

namespace gc {

std::string Hash128::hex() const { return fmt::format("{:016x}{:016x}", hi, lo); }

Hash128 Hash128::from_hex(std::string_view hex) {
  Hash128 h;
  if (hex.size() != 32) return h;
  const char* p = hex.data();
  const auto a = std::from_chars(p, p + 16, h.hi, 16);
  const auto b = std::from_chars(p + 16, p + 32, h.lo, 16);
  return a.ptr == p + 16 && b.ptr == p + 32 ? h : Hash128{};
}

Hash128 hash_bytes(const void* data, std::size_t size) {
  const XXH128_hash_t h = XXH3_128bits(data, size);
  return {h.high64, h.low64};
}

Hasher& Hasher::add(std::string_view s) {
  add(static_cast<std::int64_t>(s.size()));
  buffer_.append(s);
  return *this;
}
Hasher& Hasher::add(std::int64_t v) {
  buffer_.append(reinterpret_cast<const char*>(&v), sizeof v);
  return *this;
}
Hasher& Hasher::add(Hash128 h) {
  return add(static_cast<std::int64_t>(h.hi)).add(static_cast<std::int64_t>(h.lo));
}

}  // namespace gc
