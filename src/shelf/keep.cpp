// Room on the volumes: who gets it, and who makes way. The index is the arbiter, so that several programs on one shelf
// keep one budget: room is held in it before a file is begun.
#include <fmt/format.h>
#include <time.h>

#include <cmath>
#include <cstdio>
#include <fstream>
#include <limits>

#include "base/clock.h"
#include "base/log.h"
#include "shelf/shelf.h"

namespace gc {
namespace {

/// What leases and the beginnings of descriptions may take: never given away, so that a budget holds to the byte.
constexpr std::uint64_t kOverhead = 64 << 10;

/// Days from an ISO 8601 time in UTC until now; a year when it is none.
double days_since(const std::string& iso) {
  const auto then = seconds_of_utc(iso);
  // A clock that was set back makes nothing wanted from the future.
  return then ? std::max(0.0, (seconds_now() - *then) / 86400) : 365;
}

/// In one stroke under its own name: cut off before it, it is empty, and swept.
Result<void> write_lease(const fs::path& file) {
  const std::string process = own_process();
  std::ofstream out(file, std::ios::binary);
  out << process << std::flush;
  if (!out) return environment("the shelf cannot be written to", file.string(), "Check that its volume is mounted, writable and not full.");
  return {};
}

std::string gb(std::uint64_t bytes) {
  return bytes >= 100'000'000 ? fmt::format("{:.1f} GB", static_cast<double>(bytes) / 1e9)
                              : fmt::format("{:.1f} MB", static_cast<double>(bytes) / 1e6);
}

}  // namespace

Draft::Draft(Draft&& other) noexcept { *this = std::move(other); }
Draft& Draft::operator=(Draft&& other) noexcept {
  std::swap(shelf_, other.shelf_), std::swap(path, other.path), std::swap(row_, other.row_);
  std::swap(volume_, other.volume_), std::swap(room_, other.room_);
  return *this;
}
Draft::~Draft() {
  if (!shelf_) return;
  std::error_code e;
  fs::remove(path, e);
  shelf_->release(row_);
}

Result<std::string> Shelf::lease() const {
  if (!lease_.empty()) return lease_;
  static std::atomic<int> number{0};  // several may be open on one folder
  const std::string process = own_process();
  const std::string name = kWriting + hash_text(fmt::format("{} {} {}", process, folder_.string(), number++)).hex().substr(0, 16);
  if (auto r = write_lease(folder_ / "chunks" / (name + kLease)); !r) return std::unexpected(r.error());
  return lease_ = name;
}

void Shelf::end_lease() const {
  if (lease_.empty()) return;
  std::error_code e;
  for (const ShelfVolume& v : volumes()) fs::remove(fs::path(v.folder) / "chunks" / (lease_ + kLease), e);
}

void Shelf::release(std::int64_t row) const {
  const std::lock_guard writing(writing_);
  Statement q = database_.prepare("DELETE FROM room WHERE id = ?");
  if (auto r = q.bind(row).run(); !r) spdlog::warn("{}", r.error().text());
}

void Shelf::note_use() const {
  std::vector<std::string> read;
  {
    const std::shared_lock lock(mutex_);
    for (const auto& p : pieces_)
      if (p->read.exchange(false)) read.push_back(p->chunk.file);
  }
  if (read.empty()) return;
  const std::string now = now_utc();
  const auto noted = database_.change([&]() -> Result<void> {
    Statement q = database_.prepare("UPDATE chunk SET used = ? WHERE file = ?");
    for (const std::string& file : read)
      if (auto r = q.bind(std::string_view(now)).bind(std::string_view(file)).run(); !r) return r;
    return {};
  });
  if (!noted) spdlog::warn("{}", noted.error().text());
  const std::unique_lock lock(mutex_);
  for (const std::string& file : read)
    if (const auto it = by_file_.find(file); it != by_file_.end()) it->second->chunk.used = now;
}

void Shelf::want(const ProgramPtr& program) {
  const std::lock_guard writing(writing_);
  wanted_[program->timeline()->name] = program;
}

Shelf::Protection Shelf::protect(const std::vector<Hash128>& names) {
  auto set = std::make_shared<const NameSet>(names.begin(), names.end());
  const std::lock_guard writing(writing_);
  std::erase_if(protected_, [](const auto& p) { return p.expired(); });
  protected_.push_back(set);
  return set;
}

NameSet Shelf::wanted() const {
  NameSet all;
  for (const auto& [name, program] : wanted_) all.merge(names_of(*program));
  return all;
}

std::vector<ShelfVolume> Shelf::volumes() const {
  settled();
  return volumes_now();
}

std::vector<ShelfVolume> Shelf::volumes_now() const {
  std::vector<ShelfVolume> all{{folder_.string(), true, {}, std::uint64_t{1} << 30, 0, true, 0, 0}};
  if (database_.is_open()) {
    Statement q = database_.prepare("SELECT folder, budget, floor, read_mb_s, budget IS NULL FROM volume ORDER BY rowid");
    while (q.step()) {
      ShelfVolume v{q.text(0), false, {}, static_cast<std::uint64_t>(q.integer(2)), q.real(3), true, 0, 0};
      if (q.integer(4) == 0) v.budget = static_cast<std::uint64_t>(q.integer(1));
      if (v.folder.empty()) v.folder = folder_.string(), v.own = true, all.front() = v;
      else all.push_back(v);
    }
  }
  const std::shared_lock lock(mutex_);
  for (ShelfVolume& v : all) {
    std::error_code e;
    v.available = fs::is_directory(fs::path(v.folder) / "chunks", e);
    for (const auto& p : pieces_)
      if (p->chunk.volume == (v.own ? "" : v.folder)) v.bytes += p->chunk.footprint(), v.pieces += p->chunk.removed.empty();
  }
  return all;
}

Result<void> Shelf::set_volume(const ShelfVolume& volume) {
  if (!writable_) return environment("the shelf may only be read", folder_.string(), "Use a shelf that may be written to.");
  const bool own = volume.own || fs::weakly_canonical(volume.folder) == fs::weakly_canonical(folder_);
  std::error_code e;
  if (!own) fs::create_directories(fs::path(volume.folder) / "chunks", e);
  if (e) return environment("the volume cannot be used: " + e.message(), volume.folder, "Name a folder that may be written to.");
  const std::lock_guard writing(writing_);
  Statement q = database_.prepare("INSERT OR REPLACE INTO volume(folder, budget, floor, read_mb_s) VALUES(?, NULLIF(?, -1), ?, ?)");
  return q.bind(own ? std::string_view() : std::string_view(volume.folder))
      .bind(volume.budget ? static_cast<std::int64_t>(*volume.budget) : -1)
      .bind(static_cast<std::int64_t>(volume.floor))
      .bind(volume.read_mb_s)
      .run();
}

/// One try to find room on one volume.
struct Shelf::Budget {
  ShelfVolume volume;
  std::uint64_t used = 0;  ///< held and kept by others, of all programs
  std::uint64_t needed = 0;

  /// How much has to go before `needed` fits.
  std::uint64_t short_by() const {
    std::uint64_t lacks = 0;
    const std::uint64_t wants = used + needed + kOverhead;
    if (volume.budget && wants > *volume.budget) lacks = wants - *volume.budget;
    std::error_code e;
    const auto space = fs::space(volume.folder, e);
    if (!e && space.available < needed + volume.floor)
      lacks = std::max<std::uint64_t>(lacks, needed + volume.floor - space.available);
    return lacks;
  }
};

Result<std::pair<std::string, std::int64_t>> Shelf::hold(std::uint64_t bytes, double needs_mb_s,
                                                         const std::optional<std::string>& only, std::int64_t row) {
  const std::vector<ShelfVolume> all = volumes_now();
  std::string where;
  std::vector<std::string> victims;
  std::uint64_t least_short = std::numeric_limits<std::uint64_t>::max();
  const auto done = database_.change([&]() -> Result<void> {
    // Room that a process held which is no more.
    Statement others = database_.prepare("SELECT id, process FROM room");
    std::vector<std::int64_t> dead;
    while (others.step())
      if (!may_be_alive(others.text(1))) dead.push_back(others.integer(0));
    Statement erase = database_.prepare("DELETE FROM room WHERE id = ?");
    for (const std::int64_t id : dead)
      if (auto r = erase.bind(id).run(); !r) return r;
    std::vector<Budget> tries;
    for (const ShelfVolume& v : all) {
      const std::string name = v.own ? "" : v.folder;
      if (!v.available || (only && name != *only)) continue;
      Statement kept = database_.prepare("SELECT TOTAL(bytes + beside) FROM chunk WHERE volume = ?");
      Statement held = database_.prepare("SELECT TOTAL(bytes) FROM room WHERE volume = ? AND id != ?");
      kept.bind(std::string_view(name)), held.bind(std::string_view(name)).bind(row);
      if (!kept.step() || !held.step()) return environment("the shelf's index cannot be read", folder_.string(), "Try again.");
      tries.push_back({v, static_cast<std::uint64_t>(kept.real(0) + held.real(0)), bytes});
    }
    if (tries.empty())
      return environment("no volume of the shelf is there", folder_.string(), "Mount one of them, or choose another shelf.");
    // First one that reads fast enough for this form and has room, then one that has room, then one that makes some.
    const auto fast = [&](const Budget& b) { return b.volume.read_mb_s <= 0 || b.volume.read_mb_s >= 1.5 * needs_mb_s; };
    const Budget* chosen = nullptr;
    for (const bool any_speed : {false, true})
      for (const Budget& b : tries)
        if (!chosen && b.short_by() == 0 && (any_speed || fast(b))) chosen = &b;
    if (!chosen) {
      std::stable_sort(tries.begin(), tries.end(), [&](const Budget& a, const Budget& b) { return fast(a) > fast(b); });
      const NameSet wanted_now = wanted();
      std::vector<Protection> needed;
      for (const auto& p : protected_)
        if (auto alive = p.lock()) needed.push_back(std::move(alive));
      for (const Budget& b : tries) {
        std::vector<std::string> go;
        const std::uint64_t lacks = b.short_by();
        std::uint64_t frees = 0;
        struct Candidate {
          int group;
          int worth;  ///< in powers of two: what differs less is told by when it was used
          std::string used;
          const Chunk* chunk;
        };
        std::vector<Candidate> candidates;
        const std::shared_lock lock(mutex_);
        for (const auto& p : pieces_) {
          const Chunk& c = p->chunk;
          if (c.pinned || c.volume != (b.volume.own ? "" : b.volume.folder)) continue;
          const auto is_needed = [&](const Hash128& h) {
            return std::ranges::any_of(needed, [&](const Protection& n) { return n->contains(h); });
          };
          if (std::ranges::any_of(c.frames, is_needed)) continue;
          const bool is_wanted = std::ranges::any_of(c.frames, [&](const Hash128& h) { return wanted_now.contains(h); });
          const double days = p->read ? 0 : days_since(c.used.empty() ? c.made : c.used);
          const double chance = is_wanted ? 1 : std::pow(0.5, 1 + days / 7);
          const double seconds = c.seconds > 0 ? c.seconds : 0.05 * static_cast<double>(c.frames.size());
          candidates.push_back({!c.removed.empty() ? 0 : !is_wanted && days > 1 ? 1 : 2,
                                std::ilogb(seconds * chance / static_cast<double>(std::max<std::uint64_t>(1, c.footprint()))),
                                c.used.empty() ? c.made : c.used, &c});
        }
        std::stable_sort(candidates.begin(), candidates.end(), [](const Candidate& x, const Candidate& y) {
          return std::tie(x.group, x.worth, x.used) < std::tie(y.group, y.worth, y.used);
        });
        for (const Candidate& c : candidates) {
          if (frees >= lacks) break;
          go.push_back(c.chunk->file), frees += c.chunk->footprint();
        }
        if (frees < lacks) {
          least_short = std::min(least_short, lacks - frees);
          continue;
        }
        chosen = &b, victims = std::move(go);
        break;
      }
    }
    if (!chosen)
      return environment(fmt::format("the shelf has not enough room: {} more are needed than its budget and its drive allow, and "
                                     "nothing of less worth can go",
                                     gb(least_short)),
                         folder_.string(), "Raise the budget, free some space, or clean the shelf; finished pieces are kept.");
    if (auto r = erase_rows(victims); !r) return r;
    where = chosen->volume.own ? "" : chosen->volume.folder;
    if (row == 0) {
      Statement take = database_.prepare("INSERT INTO room(process, volume, bytes) VALUES(?, ?, ?)");
      if (auto r = take.bind(std::string_view(own_process())).bind(std::string_view(where)).bind(static_cast<std::int64_t>(bytes)).run(); !r)
        return r;
      Statement id = database_.prepare("SELECT last_insert_rowid()");
      if (id.step()) row = id.integer(0);
      return {};
    }
    Statement more = database_.prepare("UPDATE room SET bytes = ? WHERE id = ?");
    return more.bind(static_cast<std::int64_t>(bytes)).bind(row).run();
  });
  if (!done) return std::unexpected(done.error());
  if (!victims.empty()) {
    spdlog::info("{} pieces of the shelf made way for new ones", victims.size());
    const std::unique_lock lock(mutex_);
    for (const std::string& file : victims) forget(file);
  }
  return std::pair(where, row);
}

/// Within a transaction: files first. Cut off between the two, a row names a file that is not there, which answers
/// nothing; the other way round the file would be there, over the budget, and taken in again.
Result<void> Shelf::erase_rows(const std::vector<std::string>& files) const {
  if (files.empty()) return {};
  Statement q = database_.prepare("DELETE FROM chunk WHERE file = ?");
  for (const std::string& file : files) {
    {
      const std::shared_lock lock(mutex_);
      const auto it = by_file_.find(file);
      if (it == by_file_.end()) continue;
      std::error_code e;
      const std::string path = file_of(it->second->chunk);
      fs::remove(path + ".json", e);
      fs::remove(path, e);
      if (e) return environment("a piece cannot be removed: " + e.message(), path, "Check the shelf's volume.");
    }
    if (auto r = q.bind(std::string_view(file)).run(); !r) return r;
  }
  return {};
}

Result<Draft> Shelf::begin(std::uint64_t bytes, const std::string& extension, double needs_mb_s) {
  if (!writable_)
    return environment("the shelf may only be read", folder_.string(), "Choose a shelf that may be written to with --shelf.");
  look_again();
  const std::lock_guard writing(writing_);
  auto held = hold(bytes, needs_mb_s, std::nullopt, 0);
  if (!held) return std::unexpected(held.error());
  Draft d;
  d.shelf_ = shared_from_this();
  d.volume_ = held->first, d.row_ = held->second, d.room_ = bytes;
  auto path = temporary_in(d.volume_, extension);
  if (!path) return std::unexpected(path.error());
  d.path = std::move(*path);
  return d;
}

Result<fs::path> Shelf::temporary_in(const std::string& volume, const std::string& extension) const {
  const auto name = lease();
  if (!name) return std::unexpected(name.error());
  const fs::path there = chunks_of(volume) / (*name + kLease);
  if (std::error_code e; !volume.empty() && !fs::exists(there, e))
    if (auto r = write_lease(there); !r) return std::unexpected(r.error());
  return chunks_of(volume) / fmt::format("{}-{}{}", *name, names_++, extension);
}

Result<void> Shelf::grow(Draft& draft, std::uint64_t bytes) {
  if (bytes <= draft.room_) return {};
  const std::lock_guard writing(writing_);
  if (auto r = hold(bytes, 0, draft.volume_, draft.row_); !r) return std::unexpected(r.error());
  draft.room_ = bytes;
  return {};
}

/// What stands beside a piece, under a name that is swept when this process is killed before it is whole.
Result<void> Shelf::describe(const Chunk& chunk, const std::string& description) const {
  const auto draft = temporary_in(chunk.volume, ".json");
  if (!draft) return std::unexpected(draft.error());
  if (auto r = write_file_atomic(*draft, description); !r) return r;
  std::error_code e;
  fs::rename(*draft, file_of(chunk) + ".json", e);
  if (e) return environment("a piece cannot be described: " + e.message(), file_of(chunk), "Check the shelf's volume and start again.");
  return {};
}

Result<void> Shelf::add(Chunk chunk, Draft draft) {
  // The name tells the contents, so that the same piece made twice is one file.
  std::string name{reinterpret_cast<const char*>(chunk.frames.data()), chunk.frames.size() * sizeof(Hash128)};
  if (chunk.form != Form::vc3_hqx) name += form_id(chunk.form);
  chunk.file = hash_text(name).hex() + draft.path.extension().string();
  chunk.volume = draft.volume_;
  std::error_code e;
  chunk.bytes = fs::file_size(draft.path, e);
  if (e)
    return environment("a finished piece has vanished: " + e.message(), draft.path.string(),
                       "Check the shelf's volume and start again.");
  // Read back: what the drive has now is what has to be there for ever.
  auto sums = picture_hashes(draft.path.string());
  if (!sums || sums->size() != chunk.frames.size())
    return environment("a finished piece cannot be read back", draft.path.string(), "Check the shelf's volume and start again.");
  chunk.sums = std::move(*sums);
  if (chunk.made.empty()) chunk.made = now_utc();
  const std::string description = description_of(chunk);
  chunk.beside = description.size();
  if (auto r = grow(draft, chunk.footprint()); !r) return r;
  const std::string final_name = file_of(chunk);
  const std::lock_guard writing(writing_);
  if (auto r = describe(chunk, description); !r) return r;
  // Recorded first: cut off between the two, the record names a file that is not there, which answers nothing
  // and is made again. The room becomes the piece's in the same step.
  const auto recorded = database_.change([&]() -> Result<void> {
    if (auto r = record(chunk); !r) return r;
    Statement q = database_.prepare("DELETE FROM room WHERE id = ?");
    return q.bind(draft.row_).run();
  });
  if (!recorded) {
    fs::remove(final_name + ".json", e);
    return environment("a finished piece could not be recorded: " + recorded.error().what, database_.path().string(),
                       "Free some space; the pieces before it are kept.");
  }
  if (auto r = sync_and_rename(draft.path, final_name); !r) return r;
  const std::unique_lock lock(mutex_);
  index(std::move(chunk), Reach::readable);
  return {};
}

}  // namespace gc
