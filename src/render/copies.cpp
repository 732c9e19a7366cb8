#include "render/copies.h"

#include <algorithm>

namespace gc {

CopyForm copy_form(const MediaInfo& media, int size, Form preferred) {
  CopyForm c;
  if (media.still) c.refused = "it is one picture, which is read once";
  const auto side = [&](int full) { return std::max(2, (full / size + (size > 1)) / 2 * 2); };
  c.width = size == 1 ? media.width : side(media.width), c.height = size == 1 ? media.height : side(media.height);
  const std::string& p = media.pixel_format;
  const bool whole_chroma = p.find("rgb") != p.npos || p.find("bgr") != p.npos || p.starts_with("gbr") || p.find("444") != p.npos;
  if (preferred == Form::vc3_hqx && whole_chroma && size == 1) preferred = Form::vc3_444;
  c.form = media.linear ? form_of_light(media.alpha) : form_that_keeps(preferred, media.alpha, c.width, c.height);
  // VC-3 says BT.709 of all its pictures.
  if (!media.bt709 && form_codec(c.form) == std::string_view("VC-3")) c.form = form_that_keeps(Form::rdd36, media.alpha, c.width, c.height);
  return c;
}

std::vector<FrameRange> cut_in_pieces(FrameRange range) {
  std::vector<FrameRange> pieces;
  for (Frames at = range.in; at < range.out;) {
    const Frames end = range.out - at < kPieceFrames * 3 / 2 ? range.out : at + kPieceFrames;
    pieces.push_back({at, end});
    at = end;
  }
  return pieces;
}

std::vector<FrameRange> not_copied(const SealLookup* seals, const CompiledSegment& s, FrameRange range, int size) {
  std::vector<FrameRange> missing;
  for (Frames n = range.in; n < range.out; ++n) {
    if (seals && seals->find(Program::source_key(s.media, s.joins_fields, n, size))) continue;
    if (!missing.empty() && missing.back().out == n) ++missing.back().out;
    else missing.push_back({n, n + 1});
  }
  return missing;
}

std::vector<CopyWay> copy_ways(const MediaInfo& media, const std::vector<FrameRange>& frames, int workers) {
  // Of fewer a thread would take longer to begin than to copy.
  constexpr Frames kLeastEach = 12;
  Frames all = 0;
  for (const FrameRange& r : frames) all += r.length();
  const Frames count = std::clamp<Frames>(all / kLeastEach, 1, std::max(1, workers));
  std::vector<CopyWay> ways(all > 0 ? static_cast<std::size_t>(count) : 0);
  Frames shared = 0, way = 0;
  for (FrameRange left : frames)
    while (left.length() > 0) {
      const auto end = [&] { return all * (way + 1) / count; };  // how many are shared out when this way has its share
      if (shared == end()) ++way;
      const FrameRange part{left.in, std::min(left.out, left.in + end() - shared)};
      CopyWay& w = ways[static_cast<std::size_t>(way)];
      if (w.frames == 0) w.before = frames_before(media, part.in);
      for (const FrameRange& piece : cut_in_pieces(part)) w.pieces.push_back(piece);
      w.frames += part.length(), shared += part.length(), left.in = part.out;
    }
  return ways;
}

}  // namespace gc
