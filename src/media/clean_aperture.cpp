#include "media/clean_aperture.h"

#include <fstream>
#include <string_view>

namespace gc {
namespace {

std::uint64_t number(const char* p, int bytes) {
  std::uint64_t n = 0;
  for (int i = 0; i < bytes; ++i) n = n << 8 | static_cast<unsigned char>(p[i]);
  return n;
}

/// Boxes that hold others, on the way to the sample entries of a track.
bool holds_boxes(std::string_view type) {
  return type == "moov" || type == "trak" || type == "mdia" || type == "minf" || type == "stbl";
}

/// Looks through the boxes in [from, to) of the file.
std::optional<CleanAperture> search(std::ifstream& in, std::uint64_t from, std::uint64_t to, int depth) {
  constexpr std::uint64_t kEntry = 8 + 78;  // head of a visual sample entry
  for (std::uint64_t at = from; at + 8 <= to;) {
    char head[16];
    in.seekg(static_cast<std::streamoff>(at));
    if (!in.read(head, 8)) return {};
    std::uint64_t size = number(head, 4), begins = at + 8;
    const std::string_view type(head + 4, 4);
    if (size == 1) {
      if (!in.read(head + 8, 8)) return {};
      size = number(head + 8, 8), begins += 8;
    }
    if (size == 0) size = to - at;
    if (size < begins - at || size > to - at) return {};
    if (type == "clap" && size >= 8 + 16) {
      char value[16];
      in.seekg(static_cast<std::streamoff>(begins));
      if (!in.read(value, 16)) return {};
      const auto wd = static_cast<double>(number(value + 4, 4)), hd = static_cast<double>(number(value + 12, 4));
      if (wd > 0 && hd > 0)
        return CleanAperture{static_cast<double>(number(value, 4)) / wd, static_cast<double>(number(value + 8, 4)) / hd};
    }
    std::optional<CleanAperture> found;
    if (depth < 8 && holds_boxes(type)) found = search(in, begins, at + size, depth + 1);
    else if (depth < 8 && type == "stsd") found = search(in, begins + 8, at + size, 100);
    // Sample entries: the boxes in them come after their head.
    else if (depth == 100 && size > kEntry) found = search(in, at + kEntry, at + size, 101);
    if (found) return found;
    at += size;
  }
  return {};
}

}  // namespace

std::optional<CleanAperture> clean_aperture(const std::string& path) {
  std::ifstream in(path, std::ios::binary | std::ios::ate);
  if (!in) return {};
  return search(in, 0, static_cast<std::uint64_t>(in.tellg()), 0);
}

}  // namespace gc
