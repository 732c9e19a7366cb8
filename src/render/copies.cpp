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

}  // namespace gc
