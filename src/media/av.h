#pragma once
// libav's objects, freed by the pointers that own them.

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
}

#include <memory>

namespace gc::av {

/// Calls one of libav's functions that free what a pointer points to.
template <auto Free>
struct Freed {
  template <class T>
  void operator()(T* p) const {
    Free(&p);
  }
};

using Format = std::unique_ptr<AVFormatContext, Freed<avformat_close_input>>;  ///< one that is read
using Codec = std::unique_ptr<AVCodecContext, Freed<avcodec_free_context>>;
using Packet = std::unique_ptr<AVPacket, Freed<av_packet_free>>;
using Frame = std::unique_ptr<AVFrame, Freed<av_frame_free>>;

}  // namespace gc::av
