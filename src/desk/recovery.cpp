#include "desk/recovery.h"

#include <algorithm>

#include "base/clock.h"

namespace gc {
namespace {

constexpr const char* kBegins = "unsaved-";
constexpr int kVersion = 1;

fs::path copy_of(const fs::path& folder, const fs::path& file) {
  return folder / (kBegins + Hasher().add(own_process()).add(file.string()).done().hex() + ".json");
}

/// The document of a copy; nothing when it is none.
std::optional<Json> read_copy(const fs::path& file) {
  const auto text = read_file(file);
  if (!text) return {};
  auto j = parse_json(*text, file.string());
  if (!j || !j->is_object() || number_or(*j, "recovery_version", 0) != kVersion || !j->contains("timeline"))
    return {};
  return std::move(*j);
}

}  // namespace

fs::path recovery_folder(const Stores& stores) { return stores.options.notebook.parent_path() / "recovery"; }

Result<void> keep_recovery(const fs::path& folder, const Timeline& timeline, const fs::path& file,
                           const Hash128& origin) {
  std::error_code e;
  fs::create_directories(folder, e);
  if (e)
    return environment("unsaved edits cannot be kept for a crash: " + e.message(), folder.string(),
                       "Save often, and check that this folder can be made.");
  const Json copy{{"recovery_version", kVersion},  {"file", file.string()},       {"name", timeline.name},
                  {"at", now_utc()},               {"process", own_process()},    {"origin", origin.hex()},
                  {"folder", timeline.folder}, {"place", timeline.place},     {"timeline", timeline_to_otio(timeline)}};
  return write_file_atomic(copy_of(folder, file),
                           copy.dump(1, ' ', false, Json::error_handler_t::replace) + "\n");
}

void drop_recovery(const fs::path& folder, const fs::path& file) {
  std::error_code e;
  fs::remove(copy_of(folder, file), e);
}

std::vector<RecoveryCopy> recoverable(const fs::path& folder) {
  std::vector<RecoveryCopy> all;
  std::error_code e;
  for (const auto& entry : fs::directory_iterator(folder, e)) {
    if (!entry.path().filename().string().starts_with(kBegins)) continue;
    const auto j = read_copy(entry.path());
    if (!j || may_be_alive(text_or(*j, "process", ""))) continue;
    all.push_back({entry.path(), text_or(*j, "file", ""), text_or(*j, "name", ""), text_or(*j, "at", "")});
  }
  std::sort(all.begin(), all.end(), [](const RecoveryCopy& a, const RecoveryCopy& b) { return a.at > b.at; });
  return all;
}

Result<Recovered> recover(const RecoveryCopy& copy, const std::shared_ptr<MediaCatalog>& media) {
  const auto j = read_copy(copy.copy);
  if (!j)
    return bad_input("the copy of unsaved edits cannot be read", copy.copy.string(),
                     "Open the saved timeline instead; the copy is left where it is.");
  auto timeline = timeline_from_otio(text_or(*j, "timeline", ""), copy.file, text_or(*j, "folder", ""),
                                     reading_with(media, text_or(*j, "place", "")));
  if (!timeline) return std::unexpected(timeline.error());
  return Recovered{*timeline, Hash128::from_hex(text_or(*j, "origin", ""))};
}

}  // namespace gc
