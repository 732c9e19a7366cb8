// The gate: what stands between the timeline and its delivery.
#pragma once
#include "shelf/shelf.h"

namespace gc {

enum class GateKind { offline, open_slip, broken_seal, remark, proxy };

struct GateItem {
  GateKind kind = GateKind::remark;
  bool stops = true;    ///< whether it forbids the delivery
  std::string segment;  ///< id, may be empty
  Frames at = 0;
  std::string what;    ///< one sentence
  std::string remedy;  ///< one sentence
};

struct Gate {
  std::vector<GateItem> items;
  bool may_deliver() const;
  std::string sentence() const;
  int count(GateKind kind) const;
};

/// Checks the timeline itself, with nothing bypassed. A broken seal does not forbid a delivery, since the
/// delivery is made from live frames or matching seals only; it is listed because playback of that stretch is
/// live again.
Gate check_gate(const Program& delivered, const Shelf* shelf);

}  // namespace gc
