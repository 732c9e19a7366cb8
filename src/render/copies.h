// Copies of sources that are light to decode.
#pragma once
#include "render/program.h"

namespace gc {

/// Size and form of a copy `size` times smaller on each side, or why there is none.
struct CopyForm {
  Form form = Form::vc3_hqx;
  int width = 0, height = 0;
  std::string refused;  ///< a sentence
};
/// @param preferred where it can keep the pictures
CopyForm copy_form(const MediaInfo& media, int size, Form preferred);

}  // namespace gc
