#include "desk/handover.h"

#include <fmt/format.h>

#include "base/clock.h"
#include "base/copying.h"
#include "desk/relink.h"
#include "desk/remedies.h"
#include "desk/seats.h"
#include "effects/registry.h"
#include "interchange/media_url.h"
#include "media/sequence.h"

namespace gc {
namespace {

constexpr const char *kManifest = "handover.json", *kRenditions = "renditions";

/// "media/vol/reel/a.mov" for "/vol/reel/a.mov".
std::string below(const char* root, const std::string& path) { return (fs::path(root) / fs::path(path).lexically_normal().relative_path()).generic_string(); }

std::string without_numbers(const std::string& path) { return is_sequence(path) ? path.substr(0, path.rfind('#')) : path; }
std::string numbers_of(const std::string& path) { return is_sequence(path) ? path.substr(path.rfind('#')) : std::string(); }

/// The files that a medium is made of, and that are there.
std::vector<std::string> files_of(const std::string& path) {
  std::error_code e;
  const auto sequence = Sequence::parse(path);
  if (!sequence) return fs::exists(path, e) ? std::vector{path} : std::vector<std::string>{};
  std::vector<std::string> all;
  for (Frames n = 0; n < sequence->frames(); ++n)
    if (std::string file = sequence->file(n); sequence->has(n) && fs::exists(file, e)) all.push_back(std::move(file));
  return all;
}

/// What is to lie in the folder.
struct Copying {
  std::string from, to;  ///< `to` from the folder on
  std::uint64_t bytes = 0;
};

/// A medium's URL so that a save writes it from the folder on, wherever the timeline was read from.
std::string url_in(const fs::path& folder, const std::string& inside, const Timeline& timeline, bool numbered) {
  // Of a sequence the URL is the pattern of its names.
  const std::string url = numbered ? inside : url_of_path("/" + inside).substr(std::string("file:///").size());
  if (timeline.folder.empty()) return url;
  return (folder.lexically_relative(fs::path(timeline.folder).lexically_normal()) / url).generic_string();
}

Json manifest_entry(const std::string& file, std::uint64_t bytes, const Hash128& hash) { return {{"file", file}, {"bytes", bytes}, {"xxh3_128", hash.hex()}}; }

/// The end of `path` that is one of the names in `home`.
const std::pair<const std::string, std::string>* handed_over(const std::map<std::string, std::string>& home, const std::string& path) {
  for (const auto& entry : home)
    if (path == entry.first || path.ends_with("/" + entry.first) || path == entry.second) return &entry;
  return nullptr;
}

}  // namespace

std::vector<Look> looks_of(const Timeline& timeline) {
  std::vector<Look> all;
  const auto gather = [&](const std::vector<TrackPtr>& tracks) {
    for (const TrackPtr& track : tracks)
      for (const Item& item : track->items)
        if (const auto* s = std::get_if<SegmentPtr>(&item))
          for (const Effect& e : (*s)->stack) {
            const EffectType* type = e.ours ? effect_type(e.type) : nullptr;
            const std::string path = text_or(e.params, "path", "");
            if (type && !path.empty() && std::ranges::any_of(type->params, [](const ParamSpec& p) { return p.text && p.name == "path"; }))
              all.push_back({(*s)->id, e.id, path});
          }
  };
  gather(timeline.tracks);
  for (const auto& [id, c] : timeline.compositions) gather(c->tracks);
  return all;
}

Result<Packed> pack(const View& view, const Stores& stores, const fs::path& wanted, const PackOptions& options,
                    const std::function<bool(const std::string&, double)>& progress) {
  const fs::path folder = fs::absolute(wanted).lexically_normal();
  std::error_code e;
  if (fs::exists(folder, e) && !fs::is_empty(folder, e))
    return bad_input("something lies there already", folder.string(), "Name a folder that is not there yet.");
  const Timeline& before = *view.timeline;
  Packed packed;
  std::vector<Copying> todo;
  std::uint64_t all_bytes = 0;
  const auto go_along = [&](const std::string& from, const std::string& to) {
    const auto size = fs::file_size(from, e);
    if (std::ranges::none_of(todo, [&](const Copying& c) { return c.to == to; })) todo.push_back({from, to, e ? 0 : size}), all_bytes += e ? 0 : size;
  };

  auto t = std::make_shared<Timeline>(before);
  t->home.clear();
  for (const auto& [id, m] : before.sources) {
    if (options.media == PackOptions::Media::none) break;
    const std::vector<std::string> files = files_of(m->path);
    if (files.empty()) packed.missing.push_back(without_numbers(m->path) + ": it is not there");
    for (const std::string& file : files)
      if (options.media == PackOptions::Media::originals || is_sequence(m->path)) go_along(file, below("media", file));
  }
  const std::vector<Look> looks = looks_of(before);
  for (const Look& look : looks) {
    if (fs::exists(look.path, e)) go_along(look.path, below("looks", look.path));
    else packed.missing.push_back(look.path + ": it is not there");
  }
  if (!packed.missing.empty()) return packed;
  if (const auto space = fs::space(fs::exists(folder, e) ? folder : folder.parent_path(), e); !e && space.available < all_bytes)
    return environment(fmt::format("{:.1f} GB are needed and {:.1f} GB are free", static_cast<double>(all_bytes) / 1e9, static_cast<double>(space.available) / 1e9),
                       folder.string(), "Free some space, name another drive, or let proxies go along.");

  Json files = Json::array();
  std::uint64_t done = 0;
  for (const Copying& c : todo) {
    const auto hash = copy_checked(c.from, folder / c.to, [&](std::uint64_t bytes) {
      done += bytes;
      return !progress || progress(fs::path(c.from).filename().string(), static_cast<double>(done) / static_cast<double>(std::max<std::uint64_t>(1, all_bytes)));
    });
    if (!hash) return std::unexpected(hash.error());
    files.push_back(manifest_entry(c.to, c.bytes, *hash));
    packed.bytes += c.bytes;
  }
  std::map<std::string, std::string> now;  // of each source
  for (const auto& [id, m] : before.sources) now[id] = below("media", m->path);
  if (options.media == PackOptions::Media::proxies) {
    const auto copies = write_proxies(view, folder / "media", options.size, options.form, [&](const std::string& what, double share) { return !progress || progress(what, share); });
    if (!copies) return std::unexpected(copies.error());
    for (const ProxyFile& p : *copies) {
      if (is_sequence(p.from)) continue;
      if (!p.trouble.empty()) return bad_input("no copy can be made: " + p.trouble, p.from, "Let the originals go along.");
      now[p.source] = fs::path(p.to).lexically_relative(folder).generic_string();
      const auto hash = hash_of_file(p.to);
      if (!hash) return std::unexpected(hash.error());
      const auto size = fs::file_size(p.to, e);
      files.push_back(manifest_entry(now[p.source], size, *hash));
      packed.bytes += size;
    }
  }
  TimelinePtr named = t;
  if (options.media != PackOptions::Media::none)
    for (const auto& [id, m] : before.sources) {
      const std::string inside = without_numbers(now[id]);
      if (!is_sequence(m->path) && !fs::exists(folder / inside, e)) continue;  // no copy is made of what is not seen
      named = with_media(*named, id, (folder / inside).string() + numbers_of(m->path), url_in(folder, inside, before, is_sequence(m->path)));
      t = std::make_shared<Timeline>(*named);
      t->home[inside] = without_numbers(m->path);
      named = t;
      ++packed.media;
    }
  for (const Look& look : looks) {
    const std::string inside = below("looks", look.path);
    named = with_param(*named, look.segment, look.effect, "path", (folder / inside).string());
    t = std::make_shared<Timeline>(*named);
    t->home[inside] = look.path;
    named = t;
    ++packed.looks;
  }
  if (options.renditions) {
    NameSet names = names_of(*view.played);
    names.merge(names_of(*view.delivered));
    const auto given = stores.shelf->give(names, folder / kRenditions, [&](std::size_t n, std::size_t of) {
      return !progress || progress("rendered media", static_cast<double>(n) / static_cast<double>(of));
    });
    if (!given) return std::unexpected(given.error());
    packed.pieces = given->pieces, packed.bytes += given->bytes;
  }
  if (auto r = write_file_atomic(folder / "seat.json", to_json(known_profile(stores)).dump(1) + "\n"); !r) return std::unexpected(r.error());
  std::string name = before.name.empty() ? "timeline" : before.name;
  std::ranges::replace(name, '/', '-');
  packed.timeline = folder / (name + ".otio");
  if (auto r = save_timeline(*named, packed.timeline); !r) return std::unexpected(r.error());
  // Last: a folder without it was cut off.
  const Json manifest{{"glass_clock", "handover"}, {"version", 1}, {"timeline", packed.timeline.filename().string()}, {"made", now_utc()},
                      {"media", options.media == PackOptions::Media::originals ? Json("originals") : options.media == PackOptions::Media::none ? Json("none") : Json(fmt::format("proxies 1/{}", options.size))},
                      {"files", files}};
  if (auto r = write_file_atomic(folder / kManifest, manifest.dump(1) + "\n"); !r) return std::unexpected(r.error());
  return packed;
}

Result<Unpacked> unpack(const fs::path& wanted, const Stores& stores, const std::function<bool(const std::string&, double)>& progress) {
  const fs::path folder = fs::absolute(wanted).lexically_normal();
  const auto text = read_file(folder / kManifest, std::size_t{64} << 20);
  if (!text) return bad_input("no handover lies there, or its making was cut off", folder.string(), "Name a folder that `gclk pack` finished.");
  const auto j = parse_json(*text, kManifest);
  if (!j) return std::unexpected(j.error());
  const auto plain = [](const fs::path& p) { return p.is_relative() && std::ranges::none_of(p, [](const fs::path& part) { return part == ".."; }); };
  const std::string name = j->is_object() ? text_or(*j, "timeline", "") : "";
  if (!j->is_object() || text_or(*j, "glass_clock", "") != "handover" || name.empty() || !plain(name) || !j->contains("files") || !(*j)["files"].is_array())
    return bad_input("it is no list of a handover", (folder / kManifest).string(), "Have it packed again.");
  Unpacked u;
  u.timeline = folder / name;
  std::uint64_t all = 0, done = 0;
  for (const Json& f : (*j)["files"]) all += static_cast<std::uint64_t>(std::max(0.0, number_or(f, "bytes", 0)));
  for (const Json& f : (*j)["files"]) {
    const std::string file = f.is_object() ? text_or(f, "file", "") : "";
    if (file.empty() || !plain(file)) return bad_input("it names a file outside of its folder", (folder / kManifest).string(), "Have it packed again.");
    ++u.files;
    bool go_on = true;
    const auto hash = hash_of_file(folder / file, [&](std::uint64_t bytes) {
      done += bytes;
      return go_on = !progress || progress(file, static_cast<double>(done) / static_cast<double>(std::max<std::uint64_t>(1, all)));
    });
    if (!go_on) return environment("stopped", folder.string(), "Nothing was changed.");
    if (!hash) u.damaged.push_back(file + ": " + hash.error().what);
    else if (*hash != Hash128::from_hex(text_or(f, "xxh3_128", ""))) u.damaged.push_back(file + ": it is not what was packed");
  }
  if (std::error_code e; fs::is_directory(folder / kRenditions, e)) {
    auto taken = stores.shelf->take(folder / kRenditions, [&](std::size_t n, std::size_t of) {
      return !progress || progress("rendered media", static_cast<double>(n) / static_cast<double>(of));
    });
    if (!taken) return std::unexpected(taken.error());
    u.pieces = std::move(*taken);
  }
  const auto t = open_timeline(u.timeline, stores.media);
  if (!t) return std::unexpected(t.error());
  for (const auto& [id, m] : (*t)->sources)
    if (const auto info = stores.media->info(m->path); !info) u.offline.push_back(m->path + ": " + info.error().what);
  return u;
}

TimelinePtr with_files_found(const TimelinePtr& timeline, MediaCatalog& media) {
  if (timeline->home.empty()) return timeline;
  std::error_code e;
  TimelinePtr now = timeline;
  int found = 0;
  const auto candidates = [&](const std::string& path) -> std::vector<std::string> {
    const auto* entry = handed_over(timeline->home, path);
    if (!entry) return {};
    return {(fs::path(timeline->folder) / entry->first).lexically_normal().string(), entry->second};
  };
  for (const auto& [id, m] : timeline->sources) {
    if (media.info(m->path)) continue;
    for (const std::string& other : candidates(without_numbers(m->path))) {
      const std::string path = other + numbers_of(m->path);
      const auto info = path == m->path ? Result<MediaInfo>(std::unexpected(Error{})) : media.info(path);
      if (!info || !(info->still || is_sequence(path) || same_content(*m, *info))) continue;
      now = with_media(*now, id, path, is_sequence(path) ? other : url_of_path(path));
      ++found;
      break;
    }
  }
  for (const Look& look : looks_of(*timeline)) {
    if (fs::exists(look.path, e)) continue;
    for (const std::string& other : candidates(look.path))
      if (fs::exists(other, e)) {
        now = with_param(*now, look.segment, look.effect, "path", other);
        ++found;
        break;
      }
  }
  if (found == 0) return timeline;
  auto told = std::make_shared<Timeline>(*now);
  told->remarks.push_back(fmt::format("{} file{} of a handover {} read from where {} now.", found, found == 1 ? "" : "s", found == 1 ? "is" : "are",
                                      found == 1 ? "it lies" : "they lie"));
  return told;
}

}  // namespace gc
