// Opening a shelf, what is on it, and looking up.
#include "shelf/shelf.h"

#include <dirent.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <bit>
#include <cstring>
#include <future>
#include <thread>

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

/// Whether it answers something else than finished frames.
bool is_tap(const Chunk& c) { return c.kind != TapKind::frame && c.removed.empty(); }

}  // namespace

/// What lies in a folder of pieces.
struct Shelf::Listing {
  absl::flat_hash_map<std::string, std::uint64_t> sizes;  ///< of its pieces, by name
  std::size_t described = 0;                              ///< files that stand beside one
  std::vector<std::string> writing;                       ///< half-written pieces and who writes them

  static Listing of(const fs::path& folder) {
    Listing all;
    if (const auto drive = throttle_of(folder)) (void)drive->read(1);
    DIR* dir = ::opendir(folder.c_str());
    if (!dir) return all;
    while (const dirent* entry = ::readdir(dir)) {
      const std::string_view name = entry->d_name;
      struct stat s {};
      if (name.starts_with(".")) continue;
      if (name.starts_with(kWriting)) all.writing.emplace_back(name);
      else if (name.ends_with(".json")) ++all.described;
      else if (::fstatat(::dirfd(dir), entry->d_name, &s, 0) == 0) all.sizes.emplace(name, static_cast<std::uint64_t>(s.st_size));
    }
    ::closedir(dir);
    return all;
  }

  /// Whether the piece is there as it was written.
  bool has(const Chunk& c) const {
    const auto it = sizes.find(c.file);
    return it != sizes.end() && it->second == c.bytes;
  }

  /// Removes half-written pieces whose lease names a process of this machine that is gone. Those of other
  /// machines, and those without a lease, are left alone: nobody here can tell whether they are being written.
  void sweep(const fs::path& folder) const {
    std::error_code e;
    for (const std::string& name : writing) {
      if (!name.ends_with(kLease)) continue;
      const auto process = read_file(folder / name, 4096);
      if (!process || (!process->empty() && may_be_alive(*process))) continue;
      const std::string dead = name.substr(0, name.size() - std::strlen(kLease));
      for (const std::string& piece : writing)
        if (piece.starts_with(dead + "-")) fs::remove(folder / piece, e);
      fs::remove(folder / name, e);
    }
  }
};

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
  if (auto r = shelf->load(); !r) return std::unexpected(r.error());
  return shelf;
}

Shelf::~Shelf() {
  settled();
  if (writable_ && database_.is_open()) note_use(), end_lease();
}

fs::path Shelf::chunks_of(const std::string& volume) const { return (volume.empty() ? folder_ : fs::path(volume)) / "chunks"; }
std::string Shelf::file_of(const Chunk& chunk) const {
  const std::string& root = chunk.volume.empty() ? folder_.native() : chunk.volume;
  constexpr std::string_view kChunks = "/chunks/";
  std::string path;
  path.reserve(root.size() + kChunks.size() + chunk.file.size());
  return path.append(root).append(kChunks).append(chunk.file);
}

bool Shelf::whole(const Chunk& chunk) const {
  std::error_code e;
  if (const auto drive = throttle_of(chunks_of(chunk.volume))) (void)drive->read(1);
  return fs::file_size(file_of(chunk), e) == chunk.bytes && !e;
}

std::size_t Shelf::findable(const Chunk& chunk) { return std::min(chunk.frames.size(), Place::kMost); }

/// Puts the frames of pieces into their places while further pieces are read from the index: each takes as long as the other.
class Shelf::Placing {
 public:
  Placing(const Shelf& shelf, std::size_t most) : shelf_(shelf) {
    pieces.reserve(most);
    for (auto& region : regions_) region.reserve(shelf.places_.capacity() / 2 / kRegions);
    shift_ = 7 + std::max(0, static_cast<int>(std::bit_width(shelf.places_.capacity()) - std::bit_width(kRegions - 1)));
    thread_ = std::jthread([this] { work(); });
  }
  ~Placing() { over_ = true; }

  bool full() const { return pieces.size() == pieces.capacity(); }
  void add(std::unique_ptr<Piece> piece) {
    constexpr std::size_t kAtOnce = 64;
    in_order_ = in_order_ && (pieces.empty() || pieces.back()->chunk.made <= piece->chunk.made);
    pieces.push_back(std::move(piece));
    if (pieces.size() % kAtOnce == 0) ready_.store(pieces.size(), std::memory_order_release);
  }
  /// Waits until all is in its place.
  void finish() {
    ready_ = pieces.size(), over_ = true;
    thread_.join();
    if (!in_order_)
      std::ranges::stable_sort(pieces, [](const auto& a, const auto& b) { return a->chunk.made < b->chunk.made; });
  }

  std::vector<std::unique_ptr<Piece>> pieces;  ///< in the order of the index; when all are there, the earliest first
  Names doubled;                               ///< frames in more than one piece

 private:
  void work() {
    for (std::size_t done = 0;;) {
      const bool last = over_;
      const std::size_t ready = ready_.load(std::memory_order_acquire);
      for (; done < ready; ++done) receive(*pieces[done]);
      if (last && done == ready_) break;
      std::this_thread::sleep_for(std::chrono::microseconds(100));
    }
    for (const auto& region : regions_)
      for (const Arrival& a : region) place(a);
  }
  void receive(Piece& p) {
    shelf_.by_file_.emplace(p.chunk.file, &p);
    if (!p.chunk.removed.empty()) return;
    const ByName hash;
    for (std::size_t i = 0; i < findable(p.chunk); ++i) {
      const std::size_t h = hash(p.chunk.frames[i]);
      regions_[h >> shift_ & (kRegions - 1)].push_back({h, {&p, i}});
    }
  }
  void place(const Arrival& a) {
    bool fresh = false;
    const auto it = shelf_.places_.lazy_emplace(a, [&](const auto& make) { make(a.place), fresh = true; });
    if (fresh) return;
    it->piece()->overlaps = a.place.piece()->overlaps = true;
    doubled.insert(a.place.name());
  }

  /// The table is filled region after region: put in as they come, each of a million places would have to be fetched from
  /// memory by itself, while a region lies in a core's cache.
  static constexpr std::size_t kRegions = 128;
  std::array<std::vector<Arrival>, kRegions> regions_;
  int shift_ = 0;  ///< of a hash, so that its lowest bits are those of the region (the table goes by a hash without its lowest 7)
  const Shelf& shelf_;
  bool in_order_ = true;
  std::atomic<std::size_t> ready_ = 0;
  std::atomic<bool> over_ = false;
  std::jthread thread_;
};

Result<void> Shelf::load() const {
  // What others add from here on is seen as a change.
  if (Statement version = database_.prepare("PRAGMA data_version"); version.step()) seen_version_ = version.integer(0);
  Recorded recorded{{"", 0}};
  Statement v = database_.prepare("SELECT folder FROM volume WHERE folder != ''");
  while (v.step()) recorded[v.text(0)];
  std::vector<Chunk> rows;         // that may be known
  std::optional<Placing> placing;  // where nothing is known yet
  std::unique_lock lock(mutex_);
  if (pieces_.empty()) {
    Statement most = database_.prepare("SELECT ifnull(max(rowid), 0) FROM chunk");
    most.step();
    constexpr std::size_t kFrames = 24;  // of a piece, as a rule
    const auto pieces = static_cast<std::size_t>(most.integer(0));
    by_file_.reserve(pieces), places_.reserve(std::min<std::size_t>(pieces * kFrames, std::size_t{1} << 23));
    placing.emplace(*this, pieces);
  } else {
    lock.unlock();  // who plays does not wait for drives
  }
  auto reader = database_.reader();
  if (!reader) return std::unexpected(reader.error());
  Statement q = reader->prepare(
      R"(SELECT file, frames, bytes, timeline, segment, "offset", made, "after", sums, kind, form, width, height, seconds, used,
         pinned, removed, volume, beside FROM chunk)");
  std::size_t* of_volume = nullptr;  // the count of the volume that is read about
  std::optional<std::string> counted;
  while ((!placing || !placing->full()) && q.step()) {
    Chunk c;
    c.file = q.text(0), c.frames = unpacked(q.blob(1)), c.bytes = static_cast<std::uint64_t>(q.integer(2));
    c.timeline = q.text(3), c.segment = q.text(4), c.offset = q.integer(5), c.made = q.text(6);
    c.after = static_cast<int>(q.integer(7)), c.sums = unpacked(q.blob(8));
    const auto kind = q.integer(9);
    c.kind = kind >= 0 ? static_cast<TapKind>(kind) : c.after > 0 ? TapKind::stack : TapKind::frame;
    c.form = form_named(q.blob(10)).value_or(Form::vc3_hqx);
    c.width = static_cast<int>(q.integer(11)), c.height = static_cast<int>(q.integer(12));
    c.seconds = q.real(13), c.used = q.text(14), c.pinned = q.integer(15) != 0, c.removed = q.text(16), c.volume = q.text(17);
    c.beside = static_cast<std::uint64_t>(q.integer(18));
    if (!of_volume || *counted != c.volume) of_volume = &recorded[c.volume], counted = c.volume;
    ++*of_volume;
    if (!placing) {
      rows.push_back(std::move(c));
      continue;
    }
    auto piece = std::make_unique<Piece>();
    piece->chunk = std::move(c);
    placing->add(std::move(piece));
  }
  if (!q.ok()) {
    // Nothing may lead to pieces that go with what was begun.
    if (placing) placing.reset(), by_file_.clear(), places_.clear();
    return bad_input("the shelf index cannot be read: " + reader->message(), database_.path().string(),
                     "Move the index away; it is made again from what stands beside the pieces.");
  }
  if (placing) {
    Listings listings = listings_of(recorded);
    placing->finish();
    pieces_ = std::move(placing->pieces);
    for (const auto& p : pieces_) taps_ += is_tap(p->chunk);
    answer_doubled(placing->doubled);
    ++changes_;
    const std::lock_guard looking(looking_mutex_);
    looking_ = std::async(std::launch::async, [this, recorded = std::move(recorded), listings = std::move(listings), doubled = std::move(placing->doubled)]() mutable {
      if (const auto threw = caught([&] { look_at_files(recorded, std::move(listings), doubled); })) spdlog::warn("{}", threw->text());
    });
    return {};
  }
  std::map<std::string, Listing> folders;
  for (auto& [volume, listing] : listings_of(recorded)) folders[volume] = listing.get();
  int away = 0;
  lock.lock();
  // The latest is indexed last, and answers.
  const auto earlier = [](const Chunk& a, const Chunk& b) { return a.made < b.made; };
  if (!std::is_sorted(rows.begin(), rows.end(), earlier)) std::stable_sort(rows.begin(), rows.end(), earlier);
  absl::flat_hash_set<std::string> before;
  for (const auto& p : pieces_) before.insert(p->chunk.file);
  for (Chunk& c : rows) {
    const Reach reach = folders[c.volume].has(c) ? Reach::readable : Reach::away;
    away += reach == Reach::away;
    before.erase(c.file);
    const auto known = by_file_.find(c.file);
    if (known == by_file_.end()) {
      index(std::move(c), reach);
      continue;
    }
    Piece& p = *known->second;
    p.chunk.pinned = c.pinned;
    if (p.chunk.removed != c.removed || p.chunk.volume != c.volume || p.chunk.bytes != c.bytes) index(std::move(c), reach);
    else if (reach == Reach::readable && p.reach == Reach::away) p.reach = Reach::readable, ++changes_;
  }
  for (const std::string& file : before) forget(file);
  say_away(away);
  return take_in(recorded, folders);
}

Shelf::Listings Shelf::listings_of(const Recorded& recorded) const {
  Listings listings;
  for (const auto& [volume, pieces] : recorded) listings[volume] = std::async(std::launch::async, Listing::of, chunks_of(volume));
  return listings;
}

void Shelf::look_at_files(const Recorded& recorded, Listings listings, const Names& doubled) const {
  std::map<std::string, Listing> folders;
  for (auto& [volume, listing] : listings) folders[volume] = listing.get();
  for (const auto& [volume, folder] : folders) folder.sweep(chunks_of(volume));
  int away = 0;
  {
    const std::shared_lock lock(mutex_);
    const std::string* of = nullptr;
    const Listing* folder = nullptr;
    for (const auto& p : pieces_) {
      if (!of || *of != p->chunk.volume) of = &p->chunk.volume, folder = &folders.at(*of);
      if (folder->has(p->chunk)) continue;
      ++away;
      // Who read it meanwhile knows more.
      Reach was = Reach::readable;
      p->reach.compare_exchange_strong(was, Reach::away);
    }
  }
  say_away(away);
  const std::lock_guard writing(writing_);
  const std::unique_lock lock(mutex_);
  if (away > 0) answer_doubled(doubled), ++changes_;
  if (auto r = take_in(recorded, folders); !r) spdlog::warn("{}", r.error().text());
}

// Never with a lock of the shelf's: looking takes them.
void Shelf::settled() const {
  const auto looking = [&] {
    const std::lock_guard lock(looking_mutex_);
    return looking_;
  }();
  if (looking.valid()) looking.wait();
}

void Shelf::say_away(int pieces) const {
  if (pieces > 0) spdlog::warn("{} sealed pieces of {} cannot be read now; their frames are live", pieces, folder_.string());
}

/// Pieces that the index does not have: it was lost, or is older than they are.
Result<void> Shelf::take_in(const Recorded& recorded, const std::map<std::string, Listing>& folders) const {
  int taken = 0;
  for (const auto& [volume, folder] : folders) {
    if (folder.described <= recorded.at(volume)) continue;
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
  return {};
}

void Shelf::index(Chunk chunk, Reach reach) const {
  forget(chunk.file);
  auto piece = std::make_unique<Piece>();
  piece->chunk = std::move(chunk), piece->reach = reach;
  if (is_tap(piece->chunk)) ++taps_;
  Piece* p = piece.get();
  by_file_[p->chunk.file] = p;
  pieces_.push_back(std::move(piece));
  ++changes_;
  if (!p->chunk.removed.empty()) return;
  for (std::size_t i = 0; i < findable(p->chunk); ++i) {
    const auto [it, fresh] = places_.insert(Place(p, i));
    if (fresh) continue;
    it->piece()->overlaps = p->overlaps = true;
    answer({p, i});
  }
}

void Shelf::answer_doubled(const Names& doubled) const {
  for (const Hash128& name : doubled) places_.erase(name);
  if (doubled.empty()) return;
  for (const auto& p : pieces_) {
    if (!p->overlaps || !p->chunk.removed.empty()) continue;
    for (std::size_t i = 0; i < findable(p->chunk); ++i)
      if (doubled.contains(p->chunk.frames[i])) answer({p.get(), i});
  }
}

void Shelf::answer(Place place) const {
  const auto [it, fresh] = places_.insert(place);
  if (fresh || (place.piece()->reach != Reach::readable && it->piece()->reach == Reach::readable)) return;
  places_.erase(it);
  places_.insert(place);
}

void Shelf::forget(const std::string& file) const {
  const auto known = by_file_.find(file);
  if (known == by_file_.end()) return;
  Piece* const p = known->second;
  std::vector<Hash128> lost;
  for (const Hash128& h : p->chunk.frames)
    if (const auto it = places_.find(h); it != places_.end() && it->piece() == p) {
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
      for (std::size_t i = 0; i < findable(q->chunk); ++i)
        if (open.contains(q->chunk.frames[i])) places_.insert(Place(q.get(), i));
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
  Piece& piece = *it->piece();
  if (piece.reach != Reach::readable) return std::nullopt;
  piece.read.store(true, std::memory_order_relaxed);
  const std::size_t at = it->index();
  const Chunk& c = piece.chunk;
  return SealHit{file_of(c), it->index(), at < c.sums.size() ? c.sums[at] : Hash128{}, c.form, c.width, c.height};
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
  settled();
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
  settled();
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
  settled();
  const std::shared_lock lock(mutex_);
  std::uint64_t total = 0;
  for (const auto& p : pieces_) total += p->chunk.footprint();
  return total;
}

std::size_t Shelf::chunks() const {
  settled();
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
  settled();
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
        if (const auto it = places_.find(k.names[f]); it != places_.end() && it->piece()->reach == Reach::readable) {
          const Chunk& c = it->piece()->chunk;
          answers[f] = it->piece();
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
