// Pieces from one shelf to another, by way of a folder.
#include "base/copying.h"
#include "media/writer.h"
#include "shelf/shelf.h"

namespace gc {

Result<CleanReport> Shelf::give(const NameSet& names, const fs::path& folder, const std::function<bool(std::size_t, std::size_t)>& progress) const {
  settled();
  std::vector<Chunk> chosen;
  {
    const std::shared_lock lock(mutex_);
    for (const auto& p : pieces_)
      if (p->reach == Reach::readable && p->chunk.removed.empty() && !p->chunk.sums.empty() &&
          std::ranges::any_of(p->chunk.frames, [&](const Hash128& h) { return names.contains(h); }))
        chosen.push_back(p->chunk);
  }
  CleanReport given;
  for (const Chunk& c : chosen) {
    if (progress && !progress(given.pieces, chosen.size())) break;
    if (auto r = copy_checked(file_of(c), folder / c.file); !r) return std::unexpected(r.error());
    // Last: without it the piece is nothing to anybody.
    if (auto r = write_file_atomic(folder / (c.file + ".json"), description_of(c)); !r) return std::unexpected(r.error());
    ++given.pieces, given.frames += static_cast<Frames>(c.frames.size()), given.bytes += c.footprint();
    given.seconds_to_make += c.seconds;
    given.files.push_back(c.file);
  }
  return given;
}

Result<TakenIn> Shelf::take(const fs::path& folder, const std::function<bool(std::size_t, std::size_t)>& progress) {
  settled();
  std::vector<fs::path> described;
  std::error_code e;
  for (fs::directory_iterator it(folder, e), end; !e && it != end; it.increment(e))
    if (it->path().extension() == ".json") described.push_back(it->path());
  if (e) return bad_input("the folder cannot be read: " + e.message(), folder.string(), "Check that it is there.");
  std::sort(described.begin(), described.end());
  TakenIn taken;
  std::size_t done = 0;
  for (const fs::path& beside : described) {
    if (progress && !progress(done++, described.size())) break;
    const fs::path file = fs::path(beside).replace_extension();  // "….mov.json"
    const auto refuse = [&](const std::string& why) { taken.refused.push_back(file.filename().string() + ": " + why); };
    const auto text = read_file(beside, std::size_t{8} << 20);
    auto c = text ? chunk_of(*text) : std::nullopt;
    if (!c || c->file != file.filename().string()) {
      refuse("what stands beside it is not of it");
      continue;
    }
    {
      const std::shared_lock lock(mutex_);
      const auto known = by_file_.find(c->file);
      if (known != by_file_.end() && known->second->reach == Reach::readable && known->second->chunk.removed.empty()) {
        ++taken.known;
        continue;
      }
    }
    const auto size = fs::file_size(file, e);
    if (e || size != c->bytes) {
      refuse(e ? e.message() : "it is not whole");
      continue;
    }
    auto draft = begin(size, file.extension().string());
    if (!draft) return std::unexpected(draft.error());
    fs::copy_file(file, draft->path, fs::copy_options::overwrite_existing, e);
    if (e) return environment("a piece cannot be copied: " + e.message(), file.string(), "Check the shelf's volume and try again.");
    const auto sums = picture_hashes(draft->path.string());
    if (!sums || *sums != c->sums) {
      refuse("its pictures are not those that were written");
      continue;
    }
    if (auto r = add(std::move(*c), std::move(*draft)); !r) return std::unexpected(r.error());
    ++taken.pieces;
  }
  return taken;
}

}  // namespace gc
