#include "shelf/shelf.h"

#include <fmt/format.h>
#include <signal.h>
#include <unistd.h>

#include <charconv>
#include <cstring>

#include "base/log.h"

namespace gc {
namespace {

constexpr const char* kSchema = R"(
  CREATE TABLE IF NOT EXISTS chunk(
    file TEXT PRIMARY KEY, frames BLOB NOT NULL, bytes INTEGER NOT NULL, timeline TEXT NOT NULL,
    segment TEXT NOT NULL, "offset" INTEGER NOT NULL, made TEXT NOT NULL);
)";
constexpr const char* kWriting = "writing-";

std::string pack(const std::vector<Hash128>& hashes) {
  return {reinterpret_cast<const char*>(hashes.data()), hashes.size() * sizeof(Hash128)};
}
std::vector<Hash128> unpack(const std::string& blob) {
  std::vector<Hash128> hashes(blob.size() / sizeof(Hash128));
  if (!hashes.empty()) std::memcpy(hashes.data(), blob.data(), hashes.size() * sizeof(Hash128));
  return hashes;
}

/// Half-written pieces carry the number of the process that writes them; those of dead processes are rubbish.
void sweep(const fs::path& folder) {
  std::error_code e;
  for (const auto& entry : fs::directory_iterator(folder, e)) {
    const std::string name = entry.path().filename().string();
    if (!name.starts_with(kWriting)) continue;
    int pid = 0;
    const char* begin = name.data() + std::strlen(kWriting);
    std::from_chars(begin, name.data() + name.size(), pid);
    if (pid <= 0 || (pid != ::getpid() && ::kill(pid, 0) != 0)) fs::remove(entry.path(), e);
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
  auto database = Database::open(folder / "index.sqlite", 1, kSchema, "shelf index");
  if (!database) return std::unexpected(database.error());
  auto shelf = std::make_shared<Shelf>();
  shelf->folder_ = folder;
  shelf->database_ = *database;
  sweep(folder / "chunks");
  if (auto r = shelf->load(); !r) return std::unexpected(r.error());
  return shelf;
}

Result<void> Shelf::load() {
  std::vector<std::string> gone;
  Statement q = database_.prepare(
      R"(SELECT file, frames, bytes, timeline, segment, "offset", made FROM chunk ORDER BY made, rowid)");
  while (q.step()) {
    Chunk c{q.text(0),    unpack(q.text(1)), static_cast<std::uint64_t>(q.integer(2)), q.text(3), q.text(4),
            q.integer(5), q.text(6)};
    std::error_code e;
    if (fs::file_size(folder_ / "chunks" / c.file, e) != c.bytes || e) gone.push_back(c.file);
    else index(std::move(c));
  }
  if (!q.ok())
    return bad_input("the shelf index cannot be read: " + database_.message(), database_.path().string(),
                     "Move the index away; its media are then rendered again when they are needed.");
  for (const std::string& file : gone) {
    spdlog::warn("the sealed piece {} is gone or changed; its frames are live again", file);
    forget(file);
  }
  return {};
}

void Shelf::index(Chunk chunk) {
  const auto number = static_cast<std::uint32_t>(chunks_.size());
  for (std::uint32_t i = 0; i < chunk.frames.size(); ++i)
    places_.insert_or_assign(chunk.frames[i], Place{number, i});
  chunks_.push_back(std::move(chunk));
}

void Shelf::forget(const std::string& file) const {
  database_.prepare("DELETE FROM chunk WHERE file = ?").bind(std::string_view(file)).step();
}

std::optional<SealHit> Shelf::find(const Hash128& frame) const {
  const std::lock_guard lock(mutex_);
  const auto it = places_.find(frame);
  if (it == places_.end()) return std::nullopt;
  return SealHit{(folder_ / "chunks" / chunks_[it->second.chunk].file).string(), it->second.index};
}

void Shelf::report_broken(const SealHit& hit) const {
  const std::lock_guard lock(mutex_);
  const std::string file = fs::path(hit.path).filename().string();
  spdlog::warn("the sealed piece {} cannot be read; its frames are made live", file);
  for (const Chunk& c : chunks_)
    if (c.file == file)
      for (const Hash128& h : c.frames) places_.erase(h);
  forget(file);
}

fs::path Shelf::temporary_name() const {
  const std::lock_guard lock(mutex_);
  return folder_ / "chunks" / fmt::format("{}{}-{}.mov", kWriting, ::getpid(), names_++);
}

Result<void> Shelf::add(Chunk chunk, const fs::path& temporary) {
  // The name tells the contents, so that the same piece made twice is one file.
  chunk.file = hash_text(pack(chunk.frames)).hex() + ".mov";
  std::error_code e;
  chunk.bytes = fs::file_size(temporary, e);
  if (e)
    return environment("a finished piece has vanished: " + e.message(), temporary.string(),
                       "Check the shelf's volume and start again.");
  if (auto r = sync_and_rename(temporary, folder_ / "chunks" / chunk.file); !r) return r;
  Statement q = database_.prepare(
      R"(INSERT OR REPLACE INTO chunk(file, frames, bytes, timeline, segment, "offset", made) VALUES(?,?,?,?,?,?,?))");
  q.bind(std::string_view(chunk.file))
      .blob(pack(chunk.frames))
      .bind(static_cast<std::int64_t>(chunk.bytes))
      .bind(std::string_view(chunk.timeline))
      .bind(std::string_view(chunk.segment))
      .bind(chunk.offset)
      .bind(std::string_view(chunk.made));
  q.step();
  if (!q.ok())
    return environment("a finished piece could not be recorded: " + database_.message(),
                       database_.path().string(), "Free some space; the piece itself is kept.");
  const std::lock_guard lock(mutex_);
  index(std::move(chunk));
  return {};
}

std::uint64_t Shelf::bytes() const {
  const std::lock_guard lock(mutex_);
  std::uint64_t total = 0;
  for (const Chunk& c : chunks_) total += c.bytes;
  return total;
}

std::size_t Shelf::chunks() const {
  const std::lock_guard lock(mutex_);
  return chunks_.size();
}

std::vector<SealState> Shelf::states(const Program& program) const {
  const auto length = static_cast<std::size_t>(program.duration());
  std::vector<SealState> states(length, SealState::live);
  const std::lock_guard lock(mutex_);
  if (chunks_.empty()) return states;
  // Which stretches of which segments the shelf has had.
  std::map<std::string, std::vector<std::pair<Frames, Frames>>> had;
  for (const Chunk& c : chunks_)
    if (c.timeline == program.timeline()->name)
      had[c.segment].emplace_back(c.offset, c.offset + static_cast<Frames>(c.frames.size()));
  for (const CompiledInterval& interval : program.intervals()) {
    const CompiledSegment* s = main_segment(program, interval.in);
    const auto known = s ? had.find(s->segment->id) : had.end();
    for (Frames f = interval.in; f < interval.out; ++f) {
      SealState& state = states[static_cast<std::size_t>(f)];
      if (places_.contains(program.fingerprint(f))) state = SealState::sealed;
      else if (known != had.end() &&
               std::any_of(known->second.begin(), known->second.end(), [&](const auto& range) {
                 return f - s->in >= range.first && f - s->in < range.second;
               }))
        state = SealState::broken;
    }
  }
  return states;
}

}  // namespace gc
