#include "desk/relink.h"

#include <fmt/format.h>

#include <map>

#include "interchange/media_url.h"

namespace gc {
namespace {

constexpr std::size_t kMostFiles = 200'000;

/// "shot.%04d.exr#1001-1096@24/1" without its numbers and rate: the pattern of the name.
std::string plain_path(const MediaSource& m) { return is_sequence(m.path) ? m.path.substr(0, m.path.rfind('#')) : m.path; }

/// Files of the folder, by name in small letters.
std::multimap<std::string, fs::path> files_in(const fs::path& folder, const std::function<bool()>& stop) {
  std::multimap<std::string, fs::path> all;
  std::error_code e;
  for (fs::recursive_directory_iterator it(folder, fs::directory_options::skip_permission_denied, e), end;
       !e && it != end && all.size() < kMostFiles && !(stop && stop()); it.increment(e))
    if (it->is_regular_file(e)) all.emplace(it->path().filename().string(), it->path());
  return all;
}

/// The one file that may stand for the source; else why there is none.
std::expected<fs::path, std::string> only(std::vector<fs::path> candidates, const MediaSource& m, MediaCatalog& media) {
  if (candidates.size() > 1)
    std::erase_if(candidates, [&](const fs::path& p) {
      const auto info = media.info(p.string());
      return !info || !(info->still || same_content(m, *info));
    });
  if (candidates.empty()) return std::unexpected("no such file is there");
  if (candidates.size() > 1)
    return std::unexpected(fmt::format("{} files fit: {} and {}", candidates.size(), candidates[0].string(),
                                       candidates[1].string()));
  return candidates.front();
}

/// The first file of a sequence in a folder that has it.
std::vector<fs::path> folders_with(const MediaSource& m, const std::multimap<std::string, fs::path>& files) {
  const std::string pattern = fs::path(plain_path(m)).filename().string();
  const auto mark = pattern.rfind('%'), end = pattern.find('d', mark);
  std::vector<fs::path> found;
  for (const auto& [name, path] : files) {
    const bool fits = name.starts_with(pattern.substr(0, mark)) && name.ends_with(pattern.substr(end + 1)) &&
                      name.size() > mark + (pattern.size() - end - 1);
    if (fits && std::find(found.begin(), found.end(), path.parent_path()) == found.end())
      found.push_back(path.parent_path());
  }
  return found;
}

std::expected<std::string, std::string> new_path(const MediaSource& m, const std::multimap<std::string, fs::path>& files,
                                                 RelinkBy by, MediaCatalog& media) {
  std::vector<fs::path> fit;
  if (is_sequence(m.path)) {
    const std::vector<fs::path> folders = folders_with(m, files);
    if (folders.size() != 1)
      return std::unexpected(folders.empty() ? "no such sequence is there" : "several folders have such a sequence");
    return (folders[0] / fs::path(m.path.substr(m.path.rfind('/') + 1))).string();
  }
  if (by == RelinkBy::mirrored) {
    // The longest end of the old path that lies below the folder, whatever the extension. Of another length or rate it is
    // another file.
    const fs::path old = fs::path(m.path).lexically_normal().relative_path().replace_extension();
    std::size_t longest = 0;
    for (const auto& [name, path] : files) {
      const fs::path other = fs::path(path).replace_extension();
      std::size_t same = 0;
      for (auto a = old.end(), b = other.end(); a != old.begin() && b != other.begin();) {
        if (*--a != *--b) break;
        ++same;
      }
      if (same < 2 || same < longest) continue;
      const auto info = media.info(path.string());
      if (!info || !(info->still || same_content(m, *info))) continue;
      if (same > longest) fit.clear(), longest = same;
      fit.push_back(path);
    }
    if (fit.size() == 1) return fit.front().string();
    if (fit.size() > 1) return std::unexpected(fmt::format("{} files lie at that path", fit.size()));
    if (const auto by_content = new_path(m, files, RelinkBy::content, media)) return by_content;
    const auto by_name = new_path(m, files, RelinkBy::name, media);
    if (!by_name) return by_name;
    const auto info = media.info(*by_name);
    if (info && (info->still || same_content(m, *info))) return by_name;
    return std::unexpected(fmt::format("{} has another length or rate", *by_name));
  }
  if (by == RelinkBy::content) {
    for (const auto& [name, path] : files)
      if (const auto info = media.info(path.string()); info && same_content(m, *info)) fit.push_back(path);
  } else {
    const std::string name = fs::path(m.path).filename().string(), stem = fs::path(m.path).stem().string();
    const auto [from, to] = files.equal_range(name);
    for (auto it = from; it != to; ++it) fit.push_back(it->second);
    if (fit.empty())
      for (const auto& [other, path] : files)
        if (path.stem() == stem && media.info(path.string())) fit.push_back(path);
  }
  const auto one = only(std::move(fit), m, media);
  if (!one) return std::unexpected(one.error());
  return one->string();
}

/// A sequence is written as the pattern of its names.
std::string url_for(const std::string& path) {
  return is_sequence(path) ? path.substr(0, path.rfind('#')) : url_of_path(path);
}

}  // namespace

bool same_content(const MediaSource& m, const MediaInfo& info) {
  if (info.still || m.length <= 0) return false;
  const bool timecode = info.timecode < 0 || m.start == 0 || info.timecode == rescale(m.start, m.rate, info.rate);
  return info.rate.nominal() == m.rate.nominal() && std::abs(info.frames - m.length) <= 1 && timecode;
}

Result<RelinkReport> relink(const TimelinePtr& timeline, MediaCatalog& media, const fs::path& folder, RelinkBy by,
                            const std::function<bool()>& stop) {
  std::error_code e;
  if (!fs::is_directory(folder, e)) return usage(fmt::format("'{}' is no folder", folder.string()), "Give a folder.");
  const auto files = files_in(fs::absolute(folder), stop);
  RelinkReport r{timeline, {}, {}};
  for (const auto& [id, m] : timeline->sources) {
    if (stop && stop()) break;
    if (by != RelinkBy::mirrored && (media.info(m->path) || fs::exists(plain_path(*m), e))) continue;
    const auto path = new_path(*m, files, by, media);
    if (!path) {
      r.not_found.push_back(fmt::format("{}: {}", m->path, path.error()));
      continue;
    }
    r.timeline = with_media(*r.timeline, id, *path, url_for(*path));
    r.found.push_back({id, m->path, *path});
  }
  return r;
}

Result<RelinkReport> relink_one(const TimelinePtr& timeline, MediaCatalog& media, const std::string& source,
                                const fs::path& file) {
  const auto it = timeline->sources.find(source);
  if (it == timeline->sources.end())
    return usage(fmt::format("there is no source '{}'", source), "`gclk inspect` lists them.");
  const std::string path = fs::absolute(file).lexically_normal().string();
  if (const auto info = media.info(path); !info) return std::unexpected(info.error());
  return RelinkReport{with_media(*timeline, source, path, url_of_path(path)), {{source, it->second->path, path}}, {}};
}

}  // namespace gc
