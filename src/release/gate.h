// The gate: what stands between the timeline and its delivery.
#pragma once
#include "render/coverage.h"
#include "render/restless.h"
#include "shelf/shelf.h"

namespace gc {

enum class GateKind { offline, open_slip, broken_seal, remark, proxy, card, effect, gap, uncovered, unwatched, device, records };
const char* name_of(GateKind kind);  ///< "open_slip"

struct GateItem {
  GateKind kind = GateKind::remark;
  bool stops = true;    ///< whether it forbids the delivery
  std::string segment;  ///< id, may be empty
  Frames at = 0;
  std::string what;    ///< one sentence
  std::string remedy;  ///< one sentence
  /// What somebody may accept by name and reason: "gap:24-48". Empty: nobody may.
  std::string item;
  std::string of;       ///< what it looks like now; another look needs another word
  std::string effect;   ///< of a slip or a card: what it is about
  std::string slip;     ///< id of an open slip
  std::optional<Acceptance> accepted;
};

/// What only a closer look finds: at pictures, and at the seat.
struct Inspection {
  std::vector<Coverage> uncovered;    ///< as coverage() counted
  std::vector<Restless> unwatched;    ///< what must be seen moving, and was not since it last changed
  std::vector<std::string> differing; ///< ids of effects that the seat's device for rendering draws otherwise than the processor
  std::vector<std::string> damaged;   ///< what failed its check, a sentence each: "The notebook is damaged: …"
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
/// @param found by looking closer; null: nobody looked
Gate check_gate(const Program& delivered, const Shelf* shelf, const Inspection* found = nullptr);

/// The timeline with what an item says put right: its slip lifted, its card taken away. Null where that needs a person:
/// media to be found, a word to be given.
TimelinePtr put_right(const Timeline& timeline, const GateItem& item, const std::string& now_utc);

/// The word about one of the gate's items, of now. An error where it cannot be accepted, or without a name or a reason.
Result<Acceptance> acceptance_of(const GateItem& item, const std::string& who, const std::string& why, const std::string& now_utc);

}  // namespace gc
