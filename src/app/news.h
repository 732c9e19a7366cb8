// What the desktop is told of the queue while nobody looks at it.
#pragma once
#include <QString>

#include "app/session.h"

namespace gc {

struct QueueNews {
  QString title, text;
  bool pressing = false;  ///< a person has to do something
};

/// What happened between two looks at the queue: everything of a timeline is done, a job failed, or what is left takes longer
/// than there is until the review.
/// @param review seconds since 1970; nothing: none is set
std::vector<QueueNews> news_between(const Session::QueueSeen& before, const Session::QueueSeen& now, std::optional<std::int64_t> review, std::int64_t clock);

/// Shows it by the desktop's own service (org.freedesktop.Notifications). Nothing where there is none.
void tell_desktop(const QueueNews& news);

}  // namespace gc
