// Numbers of eight things side by side, for code that is written once and compiled for one thing (double) and
// for eight (Eight). What differs between the eight is chosen instead of branched to:
// `choose(truth, a, b)`.
#pragma once
#include <cstddef>

#define GC_INLINE inline __attribute__((always_inline))

namespace gc {

// Two vectors of the size that most processors have. Their alignment is stated, since a vector's own depends
// on the processor that a function is compiled for.
typedef double FourNumbers __attribute__((vector_size(32)));
typedef long FourTruths __attribute__((vector_size(32)));

struct alignas(32) EightTruths {
  FourTruths a, b;
  friend GC_INLINE EightTruths operator&(EightTruths x, EightTruths y) { return {x.a & y.a, x.b & y.b}; }
  friend GC_INLINE EightTruths operator|(EightTruths x, EightTruths y) { return {x.a | y.a, x.b | y.b}; }
};

struct alignas(32) Eight {
  FourNumbers a, b;

  Eight() = default;
  GC_INLINE Eight(FourNumbers first, FourNumbers second) : a(first), b(second) {}
  GC_INLINE Eight(double all) : a(FourNumbers{} + all), b(FourNumbers{} + all) {}

  friend GC_INLINE Eight operator+(Eight x, Eight y) { return {x.a + y.a, x.b + y.b}; }
  friend GC_INLINE Eight operator-(Eight x, Eight y) { return {x.a - y.a, x.b - y.b}; }
  friend GC_INLINE Eight operator*(Eight x, Eight y) { return {x.a * y.a, x.b * y.b}; }
  friend GC_INLINE Eight operator/(Eight x, Eight y) { return {x.a / y.a, x.b / y.b}; }
  friend GC_INLINE Eight operator-(Eight x) { return {-x.a, -x.b}; }
  friend GC_INLINE EightTruths operator<(Eight x, Eight y) { return {x.a < y.a, x.b < y.b}; }
  friend GC_INLINE EightTruths operator>(Eight x, Eight y) { return {x.a > y.a, x.b > y.b}; }
  friend GC_INLINE EightTruths operator>=(Eight x, Eight y) { return {x.a >= y.a, x.b >= y.b}; }
  friend GC_INLINE EightTruths operator==(Eight x, Eight y) { return {x.a == y.a, x.b == y.b}; }
};

template <class Real>
struct SideBySide;
template <>
struct SideBySide<double> {
  using Truth = bool;
  static constexpr int kCount = 1;
};
template <>
struct SideBySide<Eight> {
  using Truth = EightTruths;
  static constexpr int kCount = 8;
};
template <class Real>
using TruthOf = typename SideBySide<Real>::Truth;

/// True of all of them.
template <class Real>
GC_INLINE TruthOf<Real> always() {
  return Real(0.0) == Real(0.0);
}

GC_INLINE double choose(bool t, double x, double y) { return t ? x : y; }
GC_INLINE bool choose(bool t, bool x, bool y) { return t ? x : y; }
GC_INLINE Eight choose(EightTruths t, Eight x, Eight y) { return {t.a ? x.a : y.a, t.b ? x.b : y.b}; }
GC_INLINE EightTruths choose(EightTruths t, EightTruths x, EightTruths y) {
  return {(t.a & x.a) | (~t.a & y.a), (t.b & x.b) | (~t.b & y.b)};
}

GC_INLINE bool other(bool t) { return !t; }
GC_INLINE EightTruths other(EightTruths t) { return {~t.a, ~t.b}; }
GC_INLINE bool any(bool t) { return t; }
GC_INLINE bool any(EightTruths t) {
  typedef long Two __attribute__((vector_size(16)));
  const FourTruths four = t.a | t.b;
  const Two two = __builtin_shufflevector(four, four, 0, 1) | __builtin_shufflevector(four, four, 2, 3);
  return (two[0] | two[1]) != 0;
}

template <class Real>
GC_INLINE Real greater(Real x, Real y) {
  return choose(x > y, x, y);
}
template <class Real>
GC_INLINE Real lesser(Real x, Real y) {
  return choose(x < y, x, y);
}
/// The greatest whole number that is not above x, for x from 0 to 2^51.
template <class Real>
GC_INLINE Real whole(Real x) {
  const Real near = (x + Real(0x1p52)) - Real(0x1p52);
  return choose(near > x, near - Real(1.0), near);
}

// One of them. A vector may be looked at as what it is made of.
GC_INLINE double get(const double& x, int) { return x; }
GC_INLINE double get(const Eight& x, int i) { return reinterpret_cast<const double*>(&x)[i]; }
GC_INLINE bool get(const bool& x, int) { return x; }
GC_INLINE bool get(const EightTruths& x, int i) { return reinterpret_cast<const long*>(&x)[i] != 0; }
GC_INLINE void set(double& x, int, double to) { x = to; }
GC_INLINE void set(Eight& x, int i, double to) { reinterpret_cast<double*>(&x)[i] = to; }
GC_INLINE void set(bool& x, int, bool to) { x = to; }
GC_INLINE void set(EightTruths& x, int i, bool to) { reinterpret_cast<long*>(&x)[i] = to ? -1 : 0; }

}  // namespace gc
