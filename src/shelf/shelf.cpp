#include "shelf/shelf.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>
#include <set>
#include <unordered_set>

#include "base/json.h"
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
)"};
constexpr const char* kWriting = "writing-";
constexpr const char* kLease = ".lease";

std::string pack(const std::vector<Hash128>& hashes) {
  return {reinterpret_cast<const char*>(hashes.data()), hashes.size() * sizeof(Hash128)};
}
std::vector<Hash128> unpack(const std::string& blob) {
  std::vector<Hash128> hashes(blob.size() / sizeof(Hash128));
  if (!hashes.empty()) std::memcpy(hashes.data(), blob.data(), hashes.size() * sizeof(Hash128));
  return hashes;
}

/// What stands beside a piece, so that the index can be made again from the folder alone.
Json beside(const Chunk& c) {
  Json frames = Json::array(), sums = Json::array();
  for (const Hash128& h : c.frames) frames.push_back(h.hex());
  for (const Hash128& h : c.sums) sums.push_back(h.hex());
  return {{"glass_clock", "rendered media"},
          {"version", 1},
          {"file", c.file},
          {"bytes", c.bytes},
          {"timeline", c.timeline},
          {"segment", c.segment},
          {"offset", c.offset},
          {"effects_rendered", c.after},
          {"made", c.made},
          {"frames", frames},
          {"checksums", sums}};
}
std::optional<Chunk> from_beside(const fs::path& file) {
  const auto text = read_file(file, std::size_t{8} << 20);
  if (!text) return std::nullopt;
  const auto j = parse_json(*text, file.string());
  if (!j || !j->is_object() || text_or(*j, "glass_clock", "") != "rendered media") return std::nullopt;
  Chunk c;
  c.file = text_or(*j, "file", "");
  // A name within this folder, and no other.
  if (c.file.empty() || fs::path(c.file).filename().string() != c.file) return std::nullopt;
  c.bytes = static_cast<std::uint64_t>(number_or(*j, "bytes", 0));
  c.timeline = text_or(*j, "timeline", ""), c.segment = text_or(*j, "segment", "");
  c.offset = static_cast<Frames>(number_or(*j, "offset", 0)), c.made = text_or(*j, "made", "");
  c.after = static_cast<int>(number_or(*j, "effects_rendered", 0));
  for (const auto& [name, to] : {std::pair{"frames", &c.frames}, {"checksums", &c.sums}})
    for (const Json& h : j->value(name, Json::array())) to->push_back(Hash128::from_hex(h.is_string() ? h.get<std::string>() : ""));
  if (c.frames.empty() || c.frames.size() != c.sums.size()) return std::nullopt;
  return c;
}

/// Removes half-written pieces whose lease names a process of this machine that is gone. Those of other
/// machines, and those without a lease, are left alone: nobody here can tell whether they are being written.
void sweep(const fs::path& folder) {
  std::error_code e;
  std::vector<std::string> dead;
  std::vector<fs::path> writing;
  for (const auto& entry : fs::directory_iterator(folder, e)) {
    const std::string name = entry.path().filename().string();
    if (!name.starts_with(kWriting)) continue;
    if (!name.ends_with(kLease)) {
      writing.push_back(entry.path());
      continue;
    }
    const auto process = read_file(entry.path(), 4096);
    if (process && !may_be_alive(*process)) dead.push_back(name.substr(0, name.size() - std::strlen(kLease)));
  }
  for (const std::string& lease : dead) {
    for (const fs::path& p : writing)
      if (p.filename().string().starts_with(lease + "-")) fs::remove(p, e);
    fs::remove(folder / (lease + kLease), e);
  }
}

}  // namespace

Result<std::shared_ptr<Shelf>> Shelf::open(const fs::path& folder) {
  std::error_code e;
  fs::create_directories(folder / "chunks", e);
  if (e)
    return environment("the shelf cannot be made: " + e.message(), folder.string(),
                       "Choose a folder that may be written to with --shelf.");
  if (::access((folder / "chunks").c_str(), W_OK) != 0)
    return environment("the shelf may not be written to", folder.string(),
                       "Choose another folder with --shelf; sealed media there are unchanged.");
  auto database = Database::open(folder / "index.sqlite", kSteps, "shelf index");
  if (!database) return std::unexpected(database.error());
  // A piece's record must survive a power cut as surely as the piece.
  if (auto r = database->run("PRAGMA synchronous=FULL"); !r) return std::unexpected(r.error());
  auto shelf = std::make_shared<Shelf>();
  shelf->folder_ = folder;
  shelf->database_ = *database;
  sweep(folder / "chunks");
  if (auto r = shelf->load(); !r) return std::unexpected(r.error());
  return shelf;
}

bool Shelf::whole(const Chunk& chunk) const {
  std::error_code e;
  if (const auto drive = throttle_of(folder_)) (void)drive->read(1);
  return fs::file_size(file_of(chunk), e) == chunk.bytes && !e;
}

Result<void> Shelf::load() {
  Statement q = database_.prepare(
      R"(SELECT file, frames, bytes, timeline, segment, "offset", made, "after", sums FROM chunk ORDER BY made, rowid)");
  int away = 0;
  while (q.step()) {
    Chunk c{q.text(0),    unpack(q.text(1)), static_cast<std::uint64_t>(q.integer(2)), q.text(3), q.text(4),
            q.integer(5), q.text(6),         static_cast<int>(q.integer(7)),         unpack(q.text(8))};
    const bool there = whole(c);
    away += !there;
    index(std::move(c), there ? Reach::readable : Reach::away);
  }
  if (!q.ok())
    return bad_input("the shelf index cannot be read: " + database_.message(), database_.path().string(),
                     "Move the index away; its media are then rendered again when they are needed.");
  if (away > 0)
    spdlog::warn("{} sealed pieces of {} cannot be read now; their frames are live", away, folder_.string());
  return {};
}

void Shelf::index(Chunk chunk, Reach reach) {
  taps_ = taps_ || chunk.after > 0;
  // The same piece made again takes the place of the one that was there.
  const auto before = std::find_if(pieces_.begin(), pieces_.end(),
                                   [&](const Piece& p) { return p.chunk.file == chunk.file; });
  const auto number = static_cast<std::uint32_t>(before - pieces_.begin());
  for (std::uint32_t i = 0; i < chunk.frames.size(); ++i) {
    const auto [it, fresh] = places_.try_emplace(chunk.frames[i], Place{number, i});
    if (!fresh && (reach == Reach::readable || pieces_[it->second.chunk].reach != Reach::readable))
      it->second = {number, i};
  }
  if (before == pieces_.end()) pieces_.push_back({std::move(chunk), reach});
  else *before = {std::move(chunk), reach};
}

std::optional<SealHit> Shelf::find(const Hash128& frame) const {
  const std::lock_guard lock(mutex_);
  const auto it = places_.find(frame);
  if (it == places_.end()) return std::nullopt;
  const Piece& piece = pieces_[it->second.chunk];
  if (piece.reach != Reach::readable) return std::nullopt;
  const std::size_t at = it->second.index;
  return SealHit{file_of(piece.chunk).string(), it->second.index,
                 at < piece.chunk.sums.size() ? piece.chunk.sums[at] : Hash128{}};
}

bool Shelf::has_taps() const {
  const std::lock_guard lock(mutex_);
  return taps_;
}

void Shelf::report_broken(const SealHit& hit) const {
  const std::string file = fs::path(hit.path).filename().string();
  const std::lock_guard lock(mutex_);
  for (Piece& p : pieces_) {
    if (p.chunk.file != file || p.reach != Reach::readable) continue;
    p.reach = whole(p.chunk) ? Reach::damaged : Reach::away;
    spdlog::warn("the sealed piece {} {}; its frames are made live", file,
                 p.reach == Reach::damaged ? "is damaged" : "cannot be read now");
  }
}

void Shelf::look_again() const {
  std::vector<Chunk> away;
  {
    const std::lock_guard lock(mutex_);
    for (const Piece& p : pieces_)
      if (p.reach == Reach::away) away.push_back(p.chunk);
  }
  for (const Chunk& c : away) {
    if (!whole(c)) continue;
    const std::lock_guard lock(mutex_);
    for (Piece& p : pieces_)
      if (p.chunk.file == c.file && p.reach == Reach::away) p.reach = Reach::readable;
  }
}

Result<fs::path> Shelf::temporary_name() const {
  const std::lock_guard lock(mutex_);
  if (lease_.empty()) {
    const std::string process = own_process();
    const std::string lease = kWriting + hash_text(process + folder_.string()).hex().substr(0, 16);
    if (auto r = write_file_atomic(folder_ / "chunks" / (lease + kLease), process); !r)
      return std::unexpected(r.error());
    lease_ = lease;
  }
  return folder_ / "chunks" / fmt::format("{}-{}.mov", lease_, names_++);
}

Result<void> Shelf::add(Chunk chunk, const fs::path& temporary) {
  // The name tells the contents, so that the same piece made twice is one file.
  chunk.file = hash_text(pack(chunk.frames)).hex() + ".mov";
  std::error_code e;
  chunk.bytes = fs::file_size(temporary, e);
  if (e)
    return environment("a finished piece has vanished: " + e.message(), temporary.string(),
                       "Check the shelf's volume and start again.");
  // Read back: what the drive has now is what has to be there for ever.
  auto sums = picture_hashes(temporary.string());
  if (!sums || sums->size() != chunk.frames.size())
    return environment("a finished piece cannot be read back", temporary.string(),
                       "Check the shelf's volume and start again.");
  chunk.sums = std::move(*sums);
  if (auto r = write_file_atomic(file_of(chunk).string() + ".json", beside(chunk).dump() + "\n"); !r) return r;
  // Recorded first: cut off between the two, the record names a file that is not there, which answers nothing
  // and is made again. The other way round the file would be there for ever and belong to nobody.
  const auto recorded = record(chunk);
  if (!recorded) {
    fs::remove(temporary, e);
    return environment("a finished piece could not be recorded: " + recorded.error().what,
                       database_.path().string(), "Free some space; the pieces before it are kept.");
  }
  if (auto r = sync_and_rename(temporary, file_of(chunk)); !r) return r;
  const std::lock_guard lock(mutex_);
  index(std::move(chunk), Reach::readable);
  return {};
}

Result<void> Shelf::record(const Chunk& chunk) {
  Statement q = database_.prepare(
      R"(INSERT OR REPLACE INTO chunk(file, frames, bytes, timeline, segment, "offset", made, "after", sums)
         VALUES(?,?,?,?,?,?,?,?,?))");
  return q.bind(std::string_view(chunk.file))
      .blob(pack(chunk.frames))
      .bind(static_cast<std::int64_t>(chunk.bytes))
      .bind(std::string_view(chunk.timeline))
      .bind(std::string_view(chunk.segment))
      .bind(chunk.offset)
      .bind(std::string_view(chunk.made))
      .bind(static_cast<std::int64_t>(chunk.after))
      .blob(pack(chunk.sums))
      .run();
}

std::vector<PieceCheck> Shelf::verify(const std::function<bool(std::size_t, std::size_t)>& progress) const {
  std::vector<PieceCheck> all;
  const std::vector<Chunk> recorded = pieces();
  for (const Chunk& c : recorded) {
    PieceCheck check{c.file, c.timeline, c.segment, static_cast<Frames>(c.frames.size()), {}};
    const auto damaged = [&](const std::string& what) {
      check.wrong = what;
      report_broken({file_of(c).string(), 0});
    };
    if (!whole(c)) {
      damaged("it is not there, or has another size than it was written with");
    } else if (const auto sums = picture_hashes(file_of(c).string()); !sums) {
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
  std::set<std::string> known;
  for (const Chunk& c : pieces()) known.insert(c.file);
  int taken = 0;
  std::error_code e;
  for (const auto& entry : fs::directory_iterator(folder_ / "chunks", e)) {
    if (entry.path().extension() != ".json") continue;
    auto c = from_beside(entry.path());
    if (!c || known.contains(c->file) || !whole(*c)) continue;
    if (auto r = record(*c); !r) return std::unexpected(r.error());
    const std::lock_guard lock(mutex_);
    index(std::move(*c), Reach::readable);
    ++taken;
  }
  return taken;
}

std::vector<Chunk> Shelf::pieces() const {
  const std::lock_guard lock(mutex_);
  std::vector<Chunk> all;
  for (const Piece& p : pieces_) all.push_back(p.chunk);
  return all;
}

Result<void> Shelf::discard(const Program& program) {
  std::unordered_set<Hash128> wanted;
  for (Frames f = 0; f < program.duration(); ++f) {
    wanted.insert(program.fingerprint(f));
    if (const CompiledSegment* s = has_taps() ? main_segment(program, f) : nullptr)
      for (std::size_t n = 1; n <= s->effects.size(); ++n) wanted.insert(program.tap_key(*s, f, n));
  }
  const std::lock_guard lock(mutex_);
  std::set<std::size_t> numbers;
  for (std::size_t n = 0; n < pieces_.size(); ++n)
    if (std::ranges::any_of(pieces_[n].chunk.frames, [&](const Hash128& h) { return wanted.contains(h); }))
      numbers.insert(n);
  const auto erased = database_.change([&]() -> Result<void> {
    Statement row = database_.prepare("DELETE FROM chunk WHERE file = ?");
    for (const std::size_t n : numbers)
      if (auto r = row.bind(std::string_view(pieces_[n].chunk.file)).run(); !r) return r;
    return {};
  });
  if (!erased) return erased;
  std::vector<Piece> kept;
  for (std::size_t n = 0; n < pieces_.size(); ++n) {
    std::error_code e;
    if (numbers.contains(n)) fs::remove(file_of(pieces_[n].chunk), e), fs::remove(file_of(pieces_[n].chunk).string() + ".json", e);
    else kept.push_back(std::move(pieces_[n]));
  }
  pieces_.clear(), places_.clear();
  for (Piece& p : kept) index(std::move(p.chunk), p.reach);
  return {};
}

std::uint64_t Shelf::bytes() const {
  const std::lock_guard lock(mutex_);
  std::uint64_t total = 0;
  for (const Piece& p : pieces_) total += p.chunk.bytes;
  return total;
}

std::size_t Shelf::chunks() const {
  const std::lock_guard lock(mutex_);
  return pieces_.size();
}

FrameStates Shelf::states(const Program& program) const {
  const auto length = static_cast<std::size_t>(program.duration());
  FrameStates states(length, FrameState::live);
  // Which stretches of which segments the shelf has had.
  std::map<std::string, std::vector<std::pair<Frames, Frames>>> had;
  {
    const std::lock_guard lock(mutex_);
    if (pieces_.empty()) return states;
    for (const Piece& p : pieces_)
      if (p.chunk.timeline == program.timeline()->name && p.chunk.after == 0)
        had[p.chunk.segment].emplace_back(p.chunk.offset,
                                          p.chunk.offset + static_cast<Frames>(p.chunk.frames.size()));
  }
  // What a frame depends on is worked out without the lock, which playback needs, and looked up in portions.
  std::vector<Hash128> prints(length);
  for (std::size_t f = 0; f < length; ++f) prints[f] = program.fingerprint(static_cast<Frames>(f));
  std::vector<bool> sealed(length);
  constexpr std::size_t kPortion = 512;
  for (std::size_t from = 0; from < length; from += kPortion) {
    const std::lock_guard lock(mutex_);
    for (std::size_t f = from; f < std::min(length, from + kPortion); ++f)
      if (const auto it = places_.find(prints[f]); it != places_.end())
        sealed[f] = pieces_[it->second.chunk].reach == Reach::readable;
  }
  const bool taps = has_taps();
  for (const CompiledInterval& interval : program.intervals()) {
    const CompiledSegment* s = main_segment(program, interval.in);
    const auto known = s ? had.find(s->segment->id) : had.end();
    for (Frames f = interval.in; f < interval.out; ++f) {
      FrameState& state = states[static_cast<std::size_t>(f)];
      if (sealed[static_cast<std::size_t>(f)]) state = FrameState::sealed;
      else if (const auto tap = taps ? program.tap(f, *this) : std::nullopt) state = tapped_after(tap->after);
      else if (known != had.end() &&
               std::any_of(known->second.begin(), known->second.end(), [&](const auto& range) {
                 return f - s->in >= range.first && f - s->in < range.second;
               }))
        state = FrameState::broken;
    }
  }
  return states;
}

}  // namespace gc
