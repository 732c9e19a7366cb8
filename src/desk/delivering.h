// A delivery as this seat makes it: at once, or as a job of the queue.
#pragma once
#include "desk/desk.h"
#include "queue/journal.h"
#include "release/verification.h"

namespace gc {

/// Of frames of a view, with the seat's workers, its setting for rendering, and its notebook learning from it.
DeliveryOptions delivery_options(const View& view, const Stores& stores, const fs::path& to, const std::string& form);

/// Tries the form of a delivery on pictures of the timeline where it is not known what it takes of them: a few seconds. Whether
/// anything was learnt.
Result<bool> try_form(const View& view, const Stores& stores, const DeliveryOptions& options, const std::stop_token& stop);

/// How a delivery went.
struct Delivered {
  Gate gate;  ///< where it stops, nothing was made
  std::optional<DeliveryReport> report;
  std::optional<Verification> read;
  std::string unread;  ///< why it could not be read back
};
/// Looks closer, delivers, and reads back what was delivered. Ended by `progress` it fails; what is finished is kept.
Result<Delivered> deliver_whole(const View& view, const Stores& stores, const DeliveryOptions& options,
                                const std::function<bool(const DeliveryProgress&)>& progress);
/// By what a delivery is opened: its file, or the pictures that its name stands for.
fs::path readable(const DeliveryOptions& options, Rate rate);

/// Puts a delivery into the queue: of the timeline as it is now, whatever is changed until its turn comes. What machines
/// without its file may render for it, they render in its form.
Result<std::int64_t> enqueue_delivery(Journal& journal, const View& view, const Stores& stores, const fs::path& file, const DeliveryOptions& options, int priority = 0);
/// Makes the delivery of a job on this seat and says in the journal how it ended.
Result<void> do_delivery(Journal& journal, const Job& job, const std::function<bool()>& go_on);

}  // namespace gc
