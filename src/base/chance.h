// Made-up numbers: draws from counters, which are the same whatever was drawn before, and from a generator.
#pragma once
#include <cstdint>
#include <random>
#include <vector>

namespace gc {

/// Steele, Lea and Flood (2014), the mixing function of SplitMix64: a draw from a counter.
inline std::uint64_t mixed(std::uint64_t x) {
  x += 0x9e3779b97f4a7c15ULL;
  x = (x ^ (x >> 30)) * 0xbf58476d1ce4e5b9ULL;
  x = (x ^ (x >> 27)) * 0x94d049bb133111ebULL;
  return x ^ (x >> 31);
}
/// The same of 32 bits: the finaliser of MurmurHash3, a public-domain design.
inline std::uint32_t mixed32(std::uint32_t v) {
  v ^= v >> 16, v *= 0x85ebca6bU, v ^= v >> 13, v *= 0xc2b2ae35U, v ^= v >> 16;
  return v;
}
/// A draw as a number from 0 to n − 1.
inline std::size_t below(std::uint64_t draw, std::size_t n) {
  return static_cast<std::size_t>(((draw >> 32) * n) >> 32);
}

using Rng = std::mt19937_64;
/// From 0 up to 1.
inline double unit(Rng& rng) { return std::uniform_real_distribution<double>(0, 1)(rng); }
template <class T>
const T& pick(Rng& rng, const std::vector<T>& from) {
  return from[std::uniform_int_distribution<std::size_t>(0, from.size() - 1)(rng)];
}

}  // namespace gc
