// Where the frames of a delivery come from, and what that takes. For the delivery itself.
#pragma once
#include <set>
#include <string>

#include "release/delivery.h"

namespace gc {

/// Length of the pieces of what is encoded each at one go: long-GOP forms, and pictures that are drawn upon.
inline constexpr Frames kLongPiece = 96;
/// Whether something is drawn into its pictures.
inline bool burns(const DeliveryOptions& o) { return o.burn_timecode || !o.burn_text.empty(); }

/// Renditions whose pictures have every code that a 10-bit 4:2:2 form has.
bool loses_nothing(Form rendition);

/// Files of renditions that lose a little, and not more than a person allowed.
using NearFiles = std::set<std::string>;

/// Of a shelf only finished frames that lose nothing, or little enough.
class Reusable : public SealLookup {
 public:
  Reusable(const Shelf* shelf, const NearFiles& near) : shelf_(shelf), near_(near) {}
  std::optional<SealHit> find(const Hash128& name) const override {
    auto hit = shelf_ ? shelf_->find(name) : std::nullopt;
    return hit && (loses_nothing(hit->form) || near_.contains(hit->path)) ? hit : std::nullopt;
  }
  void report_broken(const SealHit& hit) const override { shelf_->report_broken(hit); }

 private:
  const Shelf* shelf_;
  const NearFiles& near_;
};

/// Of pictures one by one a form of about their size. Errors: an unknown form, one that does not keep the raster.
Result<Form> form_of(const DeliveryOptions& options, const Timeline& timeline);
DeliverySources sources_of(const Program& program, const Shelf* shelf, const DeliveryOptions& options, Form form, const NearFiles& near);
/// Pieces that lose something: of each the frame in its middle is held against the live one.
NearFiles near_files(const Program& program, const Shelf* shelf, const DeliveryOptions& options, Form form,
                     const std::function<bool(const DeliveryProgress&)>& progress);
/// Everything that is encoded for it, in order.
std::vector<FrameRange> made_of(const DeliverySources& sources);
/// As delivery_quote(), with these files reused.
Result<DeliveryQuote> quote_with(const NearFiles& near, const ProgramPtr& delivered, const Shelf* shelf, const Notebook& notebook, MediaCatalog& media,
                                 const DeliveryOptions& options, const ForecastOptions& forecast);

}  // namespace gc
