#include "app/news.h"

#include <QDBusConnection>
#include <QDBusMessage>
#include <QObject>
#include <QVariantMap>

#include <cmath>

namespace gc {
namespace {

double seconds_left(const std::vector<Job>& jobs) {
  double left = 0;
  for (const Job& j : jobs)
    if (!j.paused) left += j.seconds_left();
  return left;
}

const Job* same_job(const std::vector<Job>& jobs, std::int64_t id) {
  for (const Job& j : jobs)
    if (j.id == id) return &j;
  return nullptr;
}

}  // namespace

std::vector<QueueNews> news_between(const Session::QueueSeen& before, const Session::QueueSeen& now, std::optional<std::int64_t> review, std::int64_t clock) {
  std::vector<QueueNews> all;
  if (!before.readable || !now.readable) return all;
  struct Count {
    int open = 0, ended = 0;
  };
  std::map<std::string, Count> timelines;
  for (const Job& j : now.jobs) {
    const Job* was = same_job(before.jobs, j.id);
    Count& of = timelines[j.timeline];
    of.open += j.open();
    of.ended += j.state == JobState::done && was && was->open();
    if (j.state == JobState::failed && was && was->open())
      all.push_back({QObject::tr("A render of %1 failed").arg(QString::fromStdString(j.timeline)), QString::fromStdString(j.trouble), true});
  }
  for (const auto& [name, of] : timelines)
    if (of.open == 0 && of.ended > 0) all.push_back({QObject::tr("%1 is rendered").arg(QString::fromStdString(name)), QObject::tr("Nothing of its plan is left to be made.")});
  if (review && *review > clock) {
    const auto late = [&](const Session::QueueSeen& seen) { return static_cast<double>(clock) + seconds_left(seen.jobs) - static_cast<double>(*review); };
    // Told once, when it comes to be so.
    if (late(now) > 0 && late(before) <= 0)
      all.push_back({QObject::tr("The review is in danger"),
                     QObject::tr("What is left to render takes %1 min longer than there is. Let the queue work now, or leave something out.").arg(std::ceil(late(now) / 60)), true});
  }
  return all;
}

void tell_desktop(const QueueNews& news) {
  QDBusConnection bus = QDBusConnection::sessionBus();
  if (!bus.isConnected()) return;
  QDBusMessage call = QDBusMessage::createMethodCall("org.freedesktop.Notifications", "/org/freedesktop/Notifications", "org.freedesktop.Notifications", "Notify");
  constexpr uchar kNormal = 1, kCritical = 2;
  const QVariantMap hints{{"urgency", QVariant::fromValue<uchar>(news.pressing ? kCritical : kNormal)}};
  // Application, what it replaces, icon, title, text, actions, hints, and for how long: as the desktop likes.
  call.setArguments({QString("Glass Clock"), 0u, QString("glass-clock"), news.title, news.text, QStringList(), hints, -1});
  bus.send(call);
}

}  // namespace gc
