// What libav* says of an error, in words.
#pragma once
#include <string>

extern "C" {
#include <libavutil/error.h>
}

namespace gc {

inline std::string av_text(int code) {
  char buffer[AV_ERROR_MAX_STRING_SIZE] = {};
  av_strerror(code, buffer, sizeof buffer);
  return buffer;
}

}  // namespace gc
