// Opening a shelf, what is on it, and looking up.
#include "shelf/shelf.h"

#include <dirent.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstring>
#include <future>

#include "base/clock.h"
#include "base/log.h"
#include "base/slow_volume.h"

namespace gc {
namespace {

constexpr const char* kSteps[] = {R"(
  CREATE TABLE IF NOT EXISTS chunk(
    file TEXT PRIMARY KEY, frames BLOB NOT NULL, bytes INTEGER NOT NULL, timeline TEXT NOT NULL,
    segment TEXT NOT NULL, "offset" INTEGER NOT NULL, made TEXT NOT NULL);
)",
                                     R"(
  ALTER TABLE chunk ADD COLUMN "after" INTEGER NOT NULL DEFAULT 0;
  ALTER TABLE chunk ADD COLUMN sums BLOB NOT NULL DEFAULT x'';
)",
                                     R"(
  ALTER TABLE chunk ADD COLUMN kind INTEGER NOT NULL DEFAULT -1;
  ALTER TABLE chunk ADD COLUMN form TEXT NOT NULL DEFAULT 'vc3-hqx';
  ALTER TABLE chunk ADD COLUMN width INTEGER NOT NULL DEFAULT 0;
  ALTER TABLE chunk ADD COLUMN height INTEGER NOT NULL DEFAULT 0;
  ALTER TABLE chunk ADD COLUMN seconds REAL NOT NULL DEFAULT 0;
  ALTER TABLE chunk ADD COLUMN used TEXT NOT NULL DEFAULT '';
  ALTER TABLE chunk ADD COLUMN pinned INTEGER NOT NULL DEFAULT 0;
  ALTER TABLE chunk ADD COLUMN removed TEXT NOT NULL DEFAULT '';
  ALTER TABLE chunk ADD COLUMN volume TEXT NOT NULL DEFAULT '';
  ALTER TABLE chunk ADD COLUMN beside INTEGER NOT NULL DEFAULT 0;
  CREATE TABLE volume(folder TEXT PRIMARY KEY, budget INTEGER, floor INTEGER NOT NULL, read_mb_s REAL NOT NULL);
  CREATE TABLE room(id INTEGER PRIMARY KEY, process TEXT NOT NULL, volume TEXT NOT NULL, bytes INTEGER NOT NULL);
)"};

std::string packed(const std::vector<Hash128>& hashes) {
  return {reinterpret_cast<const char*>(hashes.data()), hashes.size() * sizeof(Hash128)};
}
std::vector<Hash128> unpacked(std::string_view blob) {
  std::vector<Hash128> hashes(blob.size() / sizeof(Hash128));
  if (!hashes.empty()) std::memcpy(hashes.data(), blob.data(), hashes.size() * sizeof(Hash128));
  return hashes;
}

/// Removes half-written pieces whose lease names a process of this machine that is gone. Those of other
/// machines, and those without a lease, are left alone: nobody here can tell whether they are being written.
void sweep(const fs::path& folder) {
  std::error_code e;
  std::vector<std::string> dead, writing;
  DIR* dir = ::opendir(folder.c_str());
  if (!dir) return;
  while (const dirent* entry = ::readdir(dir)) {
    const std::string_view name = entry->d_name;
    if (!name.starts_with(kWriting)) continue;
    if (!name.ends_with(kLease)) {
      writing.emplace_back(name);
      continue;
    }
    const auto process = read_file(folder / name, 4096);
    if (process && (process->empty() || !may_be_alive(*process))) dead.emplace_back(name.substr(0, name.size() - std::strlen(kLease)));
  }
  ::closedir(dir);
  for (const std::string& lease : dead) {
    for (const std::string& name : writing)
      if (name.starts_with(lease + "-")) fs::remove(folder / name, e);
    fs::remove(folder / (lease + kLease), e);
  }
}

/// What lies in a folder of pieces.
struct Listing {
  absl::flat_hash_map<std::string, std::uint64_t> sizes;  ///< of its pieces, by name
  std::size_t described = 0;                              ///< files that stand beside one
};
Listing listing_of(const fs::path& folder) {
  Listing all;
  if (const auto drive = throttle_of(folder)) (void)drive->read(1);
  DIR* dir = ::opendir(folder.c_str());
  if (!dir) return all;
  while (const dirent* entry = ::readdir(dir)) {
    const std::string_view name = entry->d_name;
    struct stat s {};
    if (name.starts_with(kWriting) || name.starts_with(".")) continue;
    if (name.ends_with(".json")) ++all.described;
    else if (::fstatat(::dirfd(dir), entry->d_name, &s, 0) == 0) all.sizes.emplace(name, static_cast<std::uint64_t>(s.st_size));
  }
  ::closedir(dir);
  return all;
}

}  // namespace

Result<std::shared_ptr<Shelf>> Shelf::open(const fs::path& folder) {
  std::error_code e;
  fs::create_directories(folder / "chunks", e);
  const bool there = fs::is_directory(folder / "chunks");
  if (!there)
    return environment("the shelf cannot be made: " + (e ? e.message() : std::string("its folder is not one")), folder.string(),
                       "Choose a folder that may be written to with --shelf.");
  auto shelf = std::make_shared<Shelf>();
  shelf->folder_ = folder;
  shelf->writable_ = ::access((folder / "chunks").c_str(), W_OK) == 0 && ::access(folder.c_str(), W_OK) == 0;
  if (!shelf->writable_) {
    if (::access((folder / "chunks").c_str(), R_OK | X_OK) != 0)
      return environment("the shelf may not be read", folder.string(), "Choose another folder with --shelf.");
    spdlog::warn("the shelf {} may only be read: what is on it plays, nothing new is put there", folder.string());
    if (auto r = shelf->rebuild(); !r) return std::unexpected(r.error());
    return shelf;
  }
  const fs::path file = folder / "index.sqlite";
  auto database = Database::open(file, kSteps, "shelf index");
  if (!database && database.error().what.find("newer") == std::string::npos) {
    // Everything that it said stands beside the pieces too.
    const fs::path aside = temporary_name_for(folder / "index-set-aside.sqlite");
    fs::rename(file, aside, e);
    for (const char* tail : {"-wal", "-shm"}) fs::remove(file.string() + tail, e);
    spdlog::warn("the shelf's index cannot be used ({}); it was set aside as {} and is made again", database.error().what,
                 aside.filename().string());
    database = Database::open(file, kSteps, "shelf index");
  }
  if (!database) return std::unexpected(database.error());
  // A piece's record must survive a power cut as surely as the piece.
  if (auto r = database->run("PRAGMA synchronous=FULL"); !r) return std::unexpected(r.error());
  shelf->database_ = *database;
  sweep(folder / "chunks");
  if (auto r = shelf->load(); !r) return std::unexpected(r.error());
  for (const ShelfVolume& v : shelf->volumes())
    if (!v.own && v.available) sweep(fs::path(v.folder) / "chunks");
  return shelf;
}

Shelf::~Shelf() {
  if (writable_ && database_.is_open()) note_use(), end_lease();
}

fs::path Shelf::chunks_of(const std::string& volume) const { return (volume.empty() ? folder_ : fs::path(volume)) / "chunks"; }
std::string Shelf::file_of(const Chunk& chunk) const {
  std::string path = chunk.volume.empty() ? folder_.string() : chunk.volume;
  return path.append("/chunks/").append(chunk.file);
}

bool Shelf::whole(const Chunk& chunk) const {
  std::error_code e;
  if (const auto drive = throttle_of(chunks_of(chunk.volume))) (void)drive->read(1);
  return fs::file_size(file_of(chunk), e) == chunk.bytes && !e;
}

Result<void> Shelf::load() const {
  // The folders are looked through while the index is read: each takes as long as the other.
  std::map<std::string, std::future<Listing>> listings;
  const auto list = [&](const std::string& volume) {
    if (!listings.contains(volume)) listings[volume] = std::async(std::launch::async, listing_of, chunks_of(volume));
  };
  list("");
  Statement v = database_.prepare("SELECT folder FROM volume WHERE folder != ''");
  while (v.step()) list(v.text(0));
  Statement q = database_.prepare(
      R"(SELECT file, frames, bytes, timeline, segment, "offset", made, "after", sums, kind, form, width, height, seconds, used,
         pinned, removed, volume, beside FROM chunk)");
  std::vector<Chunk> rows;
  while (q.step()) {
    Chunk c{q.text(0), unpacked(q.blob(1)), static_cast<std::uint64_t>(q.integer(2)), q.text(3), q.text(4), q.integer(5), q.text(6),
            static_cast<int>(q.integer(7)), unpacked(q.blob(8))};
    const auto kind = q.integer(9);
    c.kind = kind >= 0 ? static_cast<TapKind>(kind) : c.after > 0 ? TapKind::stack : TapKind::frame;
    c.form = form_named(q.text(10)).value_or(Form::vc3_hqx);
    c.width = static_cast<int>(q.integer(11)), c.height = static_cast<int>(q.integer(12));
    c.seconds = q.real(13), c.used = q.text(14), c.pinned = q.integer(15) != 0, c.removed = q.text(16), c.volume = q.text(17);
    c.beside = static_cast<std::uint64_t>(q.integer(18));
    rows.push_back(std::move(c));
  }
  if (!q.ok())
    return bad_input("the shelf index cannot be read: " + database_.message(), database_.path().string(),
                     "Move the index away; it is made again from what stands beside the pieces.");
  // The latest is indexed last, and answers.
  const auto earlier = [](const Chunk& a, const Chunk& b) { return a.made < b.made; };
  if (!std::is_sorted(rows.begin(), rows.end(), earlier)) std::stable_sort(rows.begin(), rows.end(), earlier);
  for (const Chunk& c : rows) list(c.volume);
  std::map<std::string, Listing> folders;
  for (auto& [volume, listing] : listings) folders[volume] = listing.get();
  const auto is_whole = [&](const Chunk& c) {
    const auto& sizes = folders[c.volume].sizes;
    const auto it = sizes.find(c.file);
    return it != sizes.end() && it->second == c.bytes;
  };
  const std::unique_lock lock(mutex_);
  absl::flat_hash_set<std::string> before;
  for (const auto& p : pieces_) before.insert(p->chunk.file);
  std::size_t frames = 0;
  for (const Chunk& c : rows) frames += c.frames.size();
  by_file_.reserve(rows.size()), places_.reserve(frames);
  int away = 0;
  std::map<std::string, std::size_t> recorded;
  for (std::size_t i = 0; i < rows.size(); ++i) {
    Chunk& c = rows[i];
    const bool there = is_whole(c);
    away += !there;
    ++recorded[c.volume];
    before.erase(c.file);
    const Reach reach = there ? Reach::readable : Reach::away;
    const auto known = by_file_.find(c.file);
    if (known == by_file_.end()) {
      index(std::move(c), reach);
      continue;
    }
    Piece& p = *known->second;
    p.chunk.pinned = c.pinned;
    if (p.chunk.removed != c.removed || p.chunk.volume != c.volume || p.chunk.bytes != c.bytes) index(std::move(c), reach);
    else if (there && p.reach == Reach::away) p.reach = Reach::readable, ++changes_;
  }
  for (const std::string& file : before) forget(file);
  if (away > 0) spdlog::warn("{} sealed pieces of {} cannot be read now; their frames are live", away, folder_.string());
  // Pieces that the index does not have: it was lost, or is older than they are.
  int taken = 0;
  for (const auto& [volume, folder] : folders) {
    if (folder.described <= recorded[volume]) continue;
    for (const auto& [name, size] : folder.sizes) {
      if (const auto known = by_file_.find(name); known != by_file_.end()) {
        // What a move left behind that was cut off after the piece was recorded at its new place.
        const bool left_behind = known->second->chunk.volume != volume && known->second->reach == Reach::readable;
        std::error_code e;
        if (left_behind) fs::remove(chunks_of(volume) / (name + ".json"), e), fs::remove(chunks_of(volume) / name, e);
        continue;
      }
      const auto text = read_file(chunks_of(volume) / (name + ".json"), std::size_t{8} << 20);
      auto c = text ? chunk_of(*text) : std::nullopt;
      if (!c || c->file != name || size != c->bytes) continue;
      c->volume = volume;
      if (auto r = record(*c); !r) return r;
      index(std::move(*c), Reach::readable), ++taken;
    }
  }
  if (taken > 0) spdlog::info("{} pieces were taken in that the shelf's index did not have", taken);
  Statement version = database_.prepare("PRAGMA data_version");
  if (version.step()) seen_version_ = version.integer(0);
  return {};
}

/// Whether it answers something else than finished frames.
static bool is_tap(const Chunk& c) { return c.kind != TapKind::frame && c.removed.empty(); }

void Shelf::index(Chunk chunk, Reach reach) const {
  forget(chunk.file);
  auto piece = std::make_unique<Piece>();
  piece->chunk = std::move(chunk), piece->reach = reach;
  piece->path = file_of(piece->chunk);
  if (is_tap(piece->chunk)) ++taps_;
  Piece* p = piece.get();
  by_file_[p->chunk.file] = p;
  pieces_.push_back(std::move(piece));
  ++changes_;
  if (!p->chunk.removed.empty()) return;
  for (std::uint32_t i = 0; i < p->chunk.frames.size(); ++i) {
    const auto [it, fresh] = places_.try_emplace(p->chunk.frames[i], Place{p, i});
    if (fresh) continue;
    it->second.piece->overlaps = p->overlaps = true;
    // The latest that can be read answers.
    if (reach == Reach::readable || it->second.piece->reach != Reach::readable) it->second = {p, i};
  }
}

void Shelf::forget(const std::string& file) const {
  const auto known = by_file_.find(file);
  if (known == by_file_.end()) return;
  Piece* const p = known->second;
  std::vector<Hash128> lost;
  for (const Hash128& h : p->chunk.frames)
    if (const auto it = places_.find(h); it != places_.end() && it->second.piece == p) {
      places_.erase(it);
      if (p->overlaps) lost.push_back(h);
    }
  if (is_tap(p->chunk)) --taps_;
  by_file_.erase(known);
  std::erase_if(pieces_, [&](const auto& q) { return q.get() == p; });
  ++changes_;
  if (lost.empty()) return;
  const NameSet open(lost.begin(), lost.end());
  for (const auto& q : pieces_)
    if (q->overlaps && q->chunk.removed.empty())
      for (std::uint32_t i = 0; i < q->chunk.frames.size(); ++i)
        if (open.contains(q->chunk.frames[i])) places_.try_emplace(q->chunk.frames[i], Place{q.get(), i});
}

Result<void> Shelf::record(const Chunk& c) const {
  Statement q = database_.prepare(
      R"(INSERT OR REPLACE INTO chunk(file, frames, bytes, timeline, segment, "offset", made, "after", sums, kind, form, width,
         height, seconds, used, pinned, removed, volume, beside) VALUES(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?))");
  const auto n = [](auto v) { return static_cast<std::int64_t>(v); };
  return q.bind(std::string_view(c.file))
      .blob(packed(c.frames))
      .bind(n(c.bytes))
      .bind(std::string_view(c.timeline))
      .bind(std::string_view(c.segment))
      .bind(n(c.offset))
      .bind(std::string_view(c.made))
      .bind(n(c.after))
      .blob(packed(c.sums))
      .bind(n(c.kind))
      .bind(std::string_view(form_id(c.form)))
      .bind(n(c.width))
      .bind(n(c.height))
      .bind(c.seconds)
      .bind(std::string_view(c.used))
      .bind(n(c.pinned))
      .bind(std::string_view(c.removed))
      .bind(std::string_view(c.volume))
      .bind(n(c.beside))
      .run();
}

std::optional<SealHit> Shelf::find(const Hash128& name) const {
  const std::shared_lock lock(mutex_);
  const auto it = places_.find(name);
  if (it == places_.end()) return std::nullopt;
  Piece& piece = *it->second.piece;
  if (piece.reach != Reach::readable) return std::nullopt;
  piece.read.store(true, std::memory_order_relaxed);
  const std::size_t at = it->second.index;
  const Chunk& c = piece.chunk;
  return SealHit{piece.path, it->second.index, at < c.sums.size() ? c.sums[at] : Hash128{}, c.form, c.width, c.height};
}

void Shelf::report_broken(const SealHit& hit) const {
  const std::shared_lock lock(mutex_);
  const auto it = by_file_.find(fs::path(hit.path).filename().string());
  if (it == by_file_.end() || it->second->reach != Reach::readable) return;
  Piece& p = *it->second;
  p.reach = whole(p.chunk) ? Reach::damaged : Reach::away;
  ++changes_;
  spdlog::warn("the sealed piece {} {}; its frames are made live", p.chunk.file,
               p.reach == Reach::damaged ? "is damaged" : "cannot be read now");
}

void Shelf::look_again() const {
  std::vector<Chunk> away;
  {
    const std::shared_lock lock(mutex_);
    for (const auto& p : pieces_)
      if (p->reach == Reach::away) away.push_back(p->chunk);
  }
  for (const Chunk& c : away) {
    if (!whole(c)) continue;
    const std::shared_lock lock(mutex_);
    if (const auto it = by_file_.find(c.file); it != by_file_.end() && it->second->reach == Reach::away)
      it->second->reach = Reach::readable, ++changes_;
  }
  if (!database_.is_open()) return;
  const std::lock_guard writing(writing_);
  Statement version = database_.prepare("PRAGMA data_version");
  if (version.step() && version.integer(0) != seen_version_)
    if (auto r = load(); !r) spdlog::warn("{}", r.error().text());
}

std::vector<Chunk> Shelf::pieces() const {
  std::vector<Chunk> all;
  {
    const std::shared_lock lock(mutex_);
    for (const auto& p : pieces_)
      if (p->chunk.removed.empty()) all.push_back(p->chunk);
  }
  std::stable_sort(all.begin(), all.end(), [](const Chunk& a, const Chunk& b) { return a.footprint() > b.footprint(); });
  return all;
}

std::uint64_t Shelf::bytes() const {
  const std::shared_lock lock(mutex_);
  std::uint64_t total = 0;
  for (const auto& p : pieces_) total += p->chunk.footprint();
  return total;
}

std::size_t Shelf::chunks() const {
  const std::shared_lock lock(mutex_);
  return static_cast<std::size_t>(std::ranges::count_if(pieces_, [](const auto& p) { return p->chunk.removed.empty(); }));
}

struct Shelf::Known {
  struct Interval {
    std::vector<Hash128> names;        ///< of its frames
    std::vector<TapPattern> patterns;  ///< for each frame that is not sealed; empty until they are asked for
    std::uint64_t changes = 0;         ///< of the shelf, when the patterns were looked up
    std::uint64_t asked = 0;
  };
  absl::flat_hash_map<Hash128, Interval, std::hash<Hash128>> intervals;
  std::uint64_t asked = 0;
};

Route Shelf::route(const Program& program) const {
  Route route(static_cast<std::size_t>(program.duration()));
  // Which stretches of which segments the shelf has had.
  std::map<std::string, std::vector<std::pair<Frames, Frames>>> had;
  {
    const std::shared_lock lock(mutex_);
    if (pieces_.empty()) return route;
    for (const auto& p : pieces_) {
      const Chunk& c = p->chunk;
      if (c.timeline == program.timeline()->name && c.kind == TapKind::frame && c.removed.empty())
        had[c.segment].emplace_back(c.offset, c.offset + static_cast<Frames>(c.frames.size()));
    }
  }
  const std::uint64_t changes = changes_;
  const bool taps = has_taps();
  const std::lock_guard known_lock(known_mutex_);
  if (!known_) known_ = std::make_shared<Known>();
  Known& known = *known_;
  ++known.asked;
  std::vector<const Piece*> answers;
  std::vector<TapUse> forms;
  for (const CompiledInterval& interval : program.intervals()) {
    Known::Interval& k = known.intervals[interval.identity];
    k.asked = known.asked;
    const auto length = static_cast<std::size_t>(interval.out - interval.in);
    while (k.names.size() < length) k.names.push_back(program.fingerprint(interval.in + static_cast<Frames>(k.names.size())));
    answers.assign(length, nullptr);
    forms.resize(length);
    // In portions, so that whoever adds a piece never waits long.
    constexpr std::size_t kPortion = 512;
    for (std::size_t from = 0; from < length; from += kPortion) {
      const std::shared_lock lock(mutex_);
      for (std::size_t f = from; f < std::min(length, from + kPortion); ++f)
        if (const auto it = places_.find(k.names[f]); it != places_.end() && it->second.piece->reach == Reach::readable) {
          const Chunk& c = it->second.piece->chunk;
          answers[f] = it->second.piece;
          forms[f] = {{}, TapKind::frame, 0, c.form, c.width, c.height};
        }
    }
    if (taps && (k.patterns.size() < length || k.changes != changes)) {
      k.patterns.assign(length, {}), k.changes = changes;
      for (std::size_t f = 0; f < length; ++f)
        if (!answers[f]) k.patterns[f] = program.recipe(interval.in + static_cast<Frames>(f), this).pattern();
    }
    const CompiledSegment* s = main_segment(program, interval.in);
    const auto before = s ? had.find(s->segment->id) : had.end();
    const Timeline& t = *program.timeline();
    for (std::size_t f = 0; f < length; ++f) {
      const auto at = static_cast<std::size_t>(interval.in) + f;
      const Frames in_segment = s ? interval.in + static_cast<Frames>(f) - s->in : 0;
      if (answers[f]) {
        const TapUse& form = forms[f];
        const bool usual = form.form == Form::vc3_hqx && (form.width == 0 || (form.width == t.width && form.height == t.height));
        route.set(at, FrameState::sealed, usual ? TapPattern{} : TapPattern{form});
      } else if (taps && !k.patterns[f].empty()) {
        route.set(at, FrameState::half, k.patterns[f]);
      } else if (before != had.end() && std::any_of(before->second.begin(), before->second.end(), [&](const auto& range) {
                   return in_segment >= range.first && in_segment < range.second;
                 })) {
        route.set(at, FrameState::broken);
      }
    }
  }
  // What was not asked for lately is of timelines that are closed, or of edits long ago.
  constexpr std::uint64_t kLately = 6;
  absl::erase_if(known.intervals, [&](const auto& i) { return i.second.asked + kLately < known.asked; });
  return route;
}

NameSet names_of(const Program& program) {
  NameSet names;
  const std::function<void(const Program&)> gather = [&](const Program& p) {
    const Rate rate = p.timeline()->rate;
    for (const auto& s : p.segments()) {
      for (Frames f = s->live_in; f < s->live_out; ++f) {
        for (std::size_t n = 1; n <= s->effects.size(); ++n) names.insert(p.tap_key(*s, f, n));
        if (s->inner) names.insert(s->inner->composition_key(s->frame_at(f, rate)));
        if (s->content != Content::source || s->media.still) continue;
        const SourcePosition at = s->position_at(f, rate);
        for (const int size : {1, 2, 4, 8, 16})
          for (const Frames n : {at.frame, at.frame + 1}) names.insert(Program::source_key(s->media, s->joins_fields, n, size));
      }
      if (s->inner) gather(*s->inner);
    }
  };
  for (Frames f = 0; f < program.duration(); ++f) names.insert(program.fingerprint(f));
  gather(program);
  return names;
}

}  // namespace gc
