// A delivery as this seat makes it.
#pragma once
#include "desk/desk.h"
#include "release/delivery.h"

namespace gc {

/// Of frames of a view, with the seat's workers, its setting for rendering, and its notebook learning from it.
inline DeliveryOptions delivery_options(const View& view, const Stores& stores, const fs::path& to, const std::string& form) {
  DeliveryOptions o;
  o.to = to, o.form = form, o.range = whole(view), o.workers = stores.options.workers;
  o.device = stores.options.settings.rendering, o.notebook = stores.notebook;
  return o;
}

}  // namespace gc
