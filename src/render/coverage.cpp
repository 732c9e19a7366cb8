#include "render/coverage.h"

#include <algorithm>

namespace gc {
namespace {

bool open(const float* p) { return p[3] < 0.999f; }

}  // namespace

Coverage coverage_of(const Image& picture) {
  Coverage c;
  if (picture.opaque) return c;
  const int w = picture.width(), h = picture.height();
  std::vector<int> in_row(static_cast<std::size_t>(h), 0), in_column(static_cast<std::size_t>(w), 0);
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x)
      if (open(picture.row(y) + 4 * x)) {
        ++c.pixels;
        ++in_row[static_cast<std::size_t>(y)], ++in_column[static_cast<std::size_t>(x)];
      }
  const auto edge = [](const auto begin, const auto end, int whole) {
    return static_cast<int>(std::find_if(begin, end, [&](int n) { return n < whole; }) - begin);
  };
  c.top = edge(in_row.begin(), in_row.end(), w), c.bottom = edge(in_row.rbegin(), in_row.rend(), w);
  c.left = edge(in_column.begin(), in_column.end(), h),
  c.right = edge(in_column.rbegin(), in_column.rend(), h);
  return c;
}

std::string lowest_segment(const Program& program, Frames frame) {
  const int i = program.interval_at(frame);
  if (i < 0) return {};
  const CompiledInterval& interval = program.intervals()[static_cast<std::size_t>(i)];
  return interval.layers.empty() ? std::string() : interval.layers.front().from->segment->id;
}

std::vector<Coverage> coverage(const Program& program, const std::function<bool()>& go_on) {
  std::vector<Coverage> found;
  Decoders decoders;
  for (const CompiledInterval& interval : program.intervals()) {
    // Opaque pictures of the whole raster need no look.
    if (!interval.layers.empty() && interval.layers.front().from->covers &&
        (!interval.layers.front().to || interval.layers.front().to->covers))
      continue;
    const Frames length = interval.out - interval.in;
    for (int k = 0; k < 4; ++k) {
      if (go_on && !go_on()) return found;
      const Frames frame = interval.in + (length - 1) * k / 3;
      StageLog log;
      Coverage c = coverage_of(render_frame(program, frame, nullptr, decoders, log));
      if (c.pixels == 0) continue;
      c.segment = lowest_segment(program, frame), c.frame = frame;
      const auto same =
          std::find_if(found.begin(), found.end(), [&](const Coverage& o) { return o.segment == c.segment; });
      if (same == found.end()) found.push_back(c);
      else if (c.pixels > same->pixels) *same = c;
    }
  }
  return found;
}

Image with_coverage_shown(const Image& picture) {
  Image out = picture.copy();
  const int w = out.width(), h = out.height();
  // A sliver of one pixel would be lost in a stripe of its own width: each uncovered pixel marks its
  // surroundings too.
  // Wide enough to be seen when the picture is small in the window.
  const int reach = std::max(3, w / 160);
  std::vector<std::uint8_t> near(static_cast<std::size_t>(w) * static_cast<std::size_t>(h), 0);
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) {
      if (!open(picture.row(y) + 4 * x)) continue;
      for (int j = std::max(0, y - reach); j <= std::min(h - 1, y + reach); ++j)
        for (int i = std::max(0, x - reach); i <= std::min(w - 1, x + reach); ++i)
          near[static_cast<std::size_t>(j) * static_cast<std::size_t>(w) + static_cast<std::size_t>(i)] = 1;
    }
  for (int y = 0; y < h; ++y) {
    float* p = out.row(y);
    for (int x = 0; x < w; ++x, p += 4) {
      if (near[static_cast<std::size_t>(y) * static_cast<std::size_t>(w) + static_cast<std::size_t>(x)])
        p[0] = p[1] = p[2] = (x + y) / (2 * reach) % 2 ? 1.0f : 0.0f;
      p[3] = 1;
    }
  }
  out.opaque = true;
  return out;
}

}  // namespace gc
