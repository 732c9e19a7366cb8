// Keeping house: cleaning and bringing back, moving to another volume, looking whether everything is whole.
#include <fmt/format.h>

#include "base/clock.h"
#include "base/log.h"
#include "shelf/shelf.h"

namespace gc {
namespace {

/// Whether a time lies so many days back. ISO 8601 times in UTC compare as text.
bool before(const std::string& iso, int days) {
  const std::time_t then = std::time(nullptr) - static_cast<std::time_t>(days) * 86400;
  tm t{};
  ::gmtime_r(&then, &t);
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &t);
  return iso < text;
}

void count(const Chunk& c, CleanReport& r) {
  ++r.pieces, r.frames += static_cast<Frames>(c.frames.size()), r.bytes += c.footprint(), r.seconds_to_make += c.seconds;
  r.files.push_back(c.file);
}

}  // namespace

std::vector<const Shelf::Piece*> Shelf::selected(const Selection& what, const std::vector<ProgramPtr>& open) const {
  settled();
  NameSet matched;
  std::vector<std::string> open_names;
  for (const ProgramPtr& p : open) {
    open_names.push_back(p->timeline()->name);
    if (what.what == Selection::What::unmatched) matched.merge(names_of(*p));
  }
  std::vector<const Piece*> all;
  const std::shared_lock lock(mutex_);
  for (const auto& p : pieces_) {
    const Chunk& c = p->chunk;
    if (!c.removed.empty()) continue;
    bool is = false;
    switch (what.what) {
      case Selection::What::all: is = true; break;
      case Selection::What::timeline: is = c.timeline == what.timeline; break;
      case Selection::What::closed: is = std::ranges::find(open_names, c.timeline) == open_names.end(); break;
      case Selection::What::unmatched: is = std::ranges::none_of(c.frames, [&](const Hash128& h) { return matched.contains(h); }); break;
      case Selection::What::older: is = !p->read && before(c.used.empty() ? c.made : c.used, what.days); break;
      case Selection::What::chosen:
        is = std::ranges::any_of(what.files, [&](const std::string& f) { return !f.empty() && c.file.starts_with(f); });
        break;
    }
    if (is) all.push_back(p.get());
  }
  return all;
}

std::uint64_t Shelf::unmatched_bytes(const std::vector<ProgramPtr>& open) const {
  return look({Selection::What::unmatched, {}, 0, {}}, open).bytes;
}

CleanReport Shelf::look(const Selection& what, const std::vector<ProgramPtr>& open) const {
  CleanReport r;
  for (const Piece* p : selected(what, open))
    if (!p->chunk.pinned || what.what == Selection::What::chosen) count(p->chunk, r);
  return r;
}

Result<CleanReport> Shelf::clean(const Selection& what, const std::vector<ProgramPtr>& open) {
  const CleanReport r = look(what, open);
  const std::string now = now_utc();
  if (!writable_) return environment("the shelf may only be read", folder_.string(), "Clean it where it may be written to.");
  const std::lock_guard writing(writing_);
  const auto done = database_.change([&]() -> Result<void> {
    Statement q = database_.prepare("UPDATE chunk SET removed = ?, pinned = 0 WHERE file = ?");
    for (const std::string& f : r.files)
      if (auto run = q.bind(std::string_view(now)).bind(std::string_view(f)).run(); !run) return run;
    return {};
  });
  if (!done) return std::unexpected(done.error());
  const std::unique_lock lock(mutex_);
  for (const std::string& f : r.files) {
    Chunk c = by_file_.at(f)->chunk;
    const Reach reach = by_file_.at(f)->reach;
    c.removed = now, c.pinned = false;
    index(std::move(c), reach);
  }
  return r;
}

Result<CleanReport> Shelf::restore() {
  settled();
  CleanReport r;
  if (!writable_) return environment("the shelf may only be read", folder_.string(), "Use it where it may be written to.");
  const std::lock_guard writing(writing_);
  if (auto run = database_.run("UPDATE chunk SET removed = '' WHERE removed != ''"); !run) return std::unexpected(run.error());
  const std::unique_lock lock(mutex_);
  std::vector<std::pair<Chunk, Reach>> back;
  for (const auto& p : pieces_)
    if (!p->chunk.removed.empty()) back.emplace_back(p->chunk, p->reach.load());
  for (auto& [c, reach] : back) {
    count(c, r);
    c.removed.clear();
    index(std::move(c), reach);
  }
  return r;
}

CleanReport Shelf::removed() const {
  settled();
  CleanReport r;
  const std::shared_lock lock(mutex_);
  for (const auto& p : pieces_)
    if (!p->chunk.removed.empty()) count(p->chunk, r);
  return r;
}

Result<CleanReport> Shelf::erase(const std::vector<std::string>& files) const {
  settled();
  CleanReport r;
  if (!writable_) return environment("the shelf may only be read", folder_.string(), "Clean it where it may be written to.");
  const std::lock_guard writing(writing_);
  {
    const std::shared_lock lock(mutex_);
    for (const std::string& f : files)
      if (const auto it = by_file_.find(f); it != by_file_.end()) count(it->second->chunk, r);
  }
  const auto done = database_.change([&]() { return erase_rows(r.files); });
  if (!done) return std::unexpected(done.error());
  const std::unique_lock lock(mutex_);
  for (const std::string& f : r.files) forget(f);
  return r;
}

Result<CleanReport> Shelf::purge() {
  return erase(removed().files);
}

Result<void> Shelf::discard(const Program& program) {
  settled();
  const NameSet names = names_of(program);
  std::vector<std::string> files;
  {
    const std::shared_lock lock(mutex_);
    for (const auto& p : pieces_)
      if (std::ranges::any_of(p->chunk.frames, [&](const Hash128& h) { return names.contains(h); })) files.push_back(p->chunk.file);
  }
  const auto r = erase(files);
  if (!r) return std::unexpected(r.error());
  return {};
}

Result<std::size_t> Shelf::pin(const Selection& what, bool pinned) {
  if (!writable_) return environment("the shelf may only be read", folder_.string(), "Use it where it may be written to.");
  std::vector<std::string> files;
  for (const Piece* p : selected(what, {})) files.push_back(p->chunk.file);
  const std::lock_guard writing(writing_);
  const auto done = database_.change([&]() -> Result<void> {
    Statement q = database_.prepare("UPDATE chunk SET pinned = ? WHERE file = ?");
    for (const std::string& f : files)
      if (auto r = q.bind(static_cast<std::int64_t>(pinned)).bind(std::string_view(f)).run(); !r) return r;
    return {};
  });
  if (!done) return std::unexpected(done.error());
  const std::unique_lock lock(mutex_);
  for (const std::string& f : files)
    if (const auto it = by_file_.find(f); it != by_file_.end()) it->second->chunk.pinned = pinned;
  return files.size();
}

Result<CleanReport> Shelf::move_to(const fs::path& target, const std::function<bool(std::size_t, std::size_t)>& progress) {
  std::error_code e;
  const bool home = fs::weakly_canonical(target, e) == fs::weakly_canonical(folder_, e);
  const std::string volume = home ? "" : fs::absolute(target).lexically_normal().string();
  bool known = home;
  for (const ShelfVolume& v : volumes()) known = known || v.folder == volume;
  if (!known)
    if (auto r = set_volume({volume, false, {}, std::uint64_t{1} << 30, 0, true, 0, 0}); !r) return std::unexpected(r.error());
  std::vector<Chunk> todo;
  {
    const std::shared_lock lock(mutex_);
    for (const auto& p : pieces_)
      if (p->chunk.volume != volume && p->reach == Reach::readable) todo.push_back(p->chunk);
  }
  CleanReport r;
  for (const Chunk& from : todo) {
    if (progress && !progress(r.pieces, todo.size())) break;
    Chunk to = from;
    to.volume = volume;
    const std::string old_name = file_of(from), new_name = file_of(to);
    Draft room;  // given back whatever happens, after the lock
    const std::lock_guard writing(writing_);
    auto held = hold(to.footprint(), 0, volume, 0);
    if (!held) return std::unexpected(held.error());
    const auto named = temporary_in(volume, fs::path(new_name).extension().string());
    if (!named) return std::unexpected(named.error());
    const fs::path& temporary = *named;
    room.shelf_ = shared_from_this(), room.row_ = held->second, room.path = temporary;
    fs::copy_file(old_name, temporary, fs::copy_options::overwrite_existing, e);
    const auto sums = e ? Result<std::vector<Hash128>>(std::vector<Hash128>{}) : picture_hashes(temporary.string());
    if (e || !sums || (!from.sums.empty() && *sums != from.sums)) {
      const std::string why = e ? e.message() : std::string("the copy is not what was read");
      return environment("a piece could not be moved: " + why, old_name,
                         "Check both volumes; what was moved is there, the rest is where it was.");
    }
    if (auto w = describe(to, description_of(to)); !w) return std::unexpected(w.error());
    if (auto w = sync_and_rename(temporary, new_name); !w) return std::unexpected(w.error());
    // The room becomes the piece's in the same step.
    const auto recorded = database_.change([&]() -> Result<void> {
      Statement q = database_.prepare("DELETE FROM room WHERE id = ?");
      if (auto w = q.bind(room.row_).run(); !w) return w;
      return record(to);
    });
    if (!recorded) return std::unexpected(recorded.error());
    {
      const std::unique_lock lock(mutex_);
      index(to, Reach::readable);
    }
    // Whoever is reading it has it open; the name goes.
    fs::remove(old_name, e), fs::remove(old_name + ".json", e);
    count(to, r);
  }
  return r;
}

std::vector<PieceCheck> Shelf::verify(const std::function<bool(std::size_t, std::size_t)>& progress) const {
  std::vector<PieceCheck> all;
  const std::vector<Chunk> recorded = pieces();
  for (const Chunk& c : recorded) {
    PieceCheck check{c.file, c.timeline, c.segment, static_cast<Frames>(c.frames.size()), {}};
    const auto damaged = [&](const std::string& what) {
      check.wrong = what;
      report_broken({file_of(c), 0, {}, c.form, 0, 0});
    };
    if (!whole(c)) {
      damaged("it is not there, or has another size than it was written with");
    } else if (const auto sums = picture_hashes(file_of(c)); !sums) {
      damaged("it cannot be read: " + sums.error().what);
    } else if (c.sums.empty()) {
      check.wrong = sums->size() == c.frames.size() ? "" : "it has not as many frames as it was written with";
    } else if (*sums != c.sums) {
      std::size_t at = 0;
      while (at < std::min(sums->size(), c.sums.size()) && (*sums)[at] == c.sums[at]) ++at;
      damaged(fmt::format("frame {} is not what was written", at));
    }
    all.push_back(std::move(check));
    if (progress && !progress(all.size(), recorded.size())) break;
  }
  return all;
}

Result<int> Shelf::rebuild() {
  int taken = 0;
  std::error_code e;
  for (const ShelfVolume& v : volumes()) {
    const std::string volume = v.own ? "" : v.folder;
    for (const auto& entry : fs::directory_iterator(chunks_of(volume), e)) {
      if (entry.path().extension() != ".json") continue;
      const auto text = read_file(entry.path(), std::size_t{8} << 20);
      auto c = text ? chunk_of(*text) : std::nullopt;
      if (!c) continue;
      c->volume = volume;
      {
        const std::shared_lock lock(mutex_);
        if (by_file_.contains(c->file)) continue;
      }
      if (!whole(*c)) continue;
      if (writable_)
        if (auto r = record(*c); !r) return std::unexpected(r.error());
      const std::unique_lock lock(mutex_);
      index(std::move(*c), Reach::readable);
      ++taken;
    }
  }
  return taken;
}

}  // namespace gc
