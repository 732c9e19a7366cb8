#include "media/fields.h"

extern "C" {
#include <libavfilter/avfilter.h>
#include <libavfilter/buffersink.h>
#include <libavfilter/buffersrc.h>
#include <libavutil/frame.h>
}
#include <fmt/format.h>

#include <algorithm>

#include "base/clock.h"

namespace gc {

struct FieldFilter::Impl {
  AVFilterGraph* graph = nullptr;
  AVFilterContext *in = nullptr, *out = nullptr;
  Frames fed = -1;  ///< number of the picture that was put in last; −1: none

  ~Impl() { avfilter_graph_free(&graph); }

  bool set_up(const AVFrame& f) {
    avfilter_graph_free(&graph);
    fed = -1;
    graph = avfilter_graph_alloc();
    graph->nb_threads = 1;  // frames, not slices, are what runs in parallel here
    const std::string format =
        fmt::format("video_size={}x{}:pix_fmt={}:time_base=1/1:pixel_aspect={}/{}", f.width, f.height, f.format,
                    std::max(1, f.sample_aspect_ratio.num), std::max(1, f.sample_aspect_ratio.den));
    AVFilterContext* filter = nullptr;
    return avfilter_graph_create_filter(&in, avfilter_get_by_name("buffer"), "in", format.c_str(), nullptr, graph) >=
               0 &&
           avfilter_graph_create_filter(&filter, avfilter_get_by_name("bwdif"), "fields",
                                        "mode=send_frame:parity=auto:deint=all", nullptr, graph) >= 0 &&
           avfilter_graph_create_filter(&out, avfilter_get_by_name("buffersink"), "out", nullptr, nullptr, graph) >=
               0 &&
           avfilter_link(in, 0, filter, 0) >= 0 && avfilter_link(filter, 0, out, 0) >= 0 &&
           avfilter_graph_config(graph, nullptr) >= 0;
  }

  bool feed(Frames n, const AVFrame& f) {
    AVFrame* copy = av_frame_clone(&f);
    if (!copy) return false;
    copy->pts = n;
    const bool ok = av_buffersrc_add_frame_flags(in, copy, AV_BUFFERSRC_FLAG_PUSH) >= 0;
    av_frame_free(&copy);
    fed = n;
    return ok;
  }

  /// The picture of this number, if the filter has it by now.
  FramePtr take(Frames n) {
    for (;;) {
      std::shared_ptr<AVFrame> frame(av_frame_alloc(), [](AVFrame* f) { av_frame_free(&f); });
      if (av_buffersink_get_frame(out, frame.get()) < 0) return nullptr;
      // bwdif tells time in halves.
      if (frame->pts == 2 * n || (frame->pts == n && out->inputs[0]->time_base.den == 1)) return frame;
    }
  }
};

FieldFilter::FieldFilter() : impl_(std::make_unique<Impl>()) {}
FieldFilter::~FieldFilter() = default;

Result<FramePtr> FieldFilter::middle(Frames n, const FramePtr& before, const FramePtr& now, const FramePtr& after) {
  const Error failed{Fault::environment, "the fields of a picture could not be put together", "",
                     "Turn 'put fields together' off in the settings, or make a progressive copy."};
  Impl& s = *impl_;
  if (s.fed != n || n < 0) {
    if (!s.set_up(*now)) return std::unexpected(failed);
    if (before && !s.feed(n - 1, *before)) return std::unexpected(failed);
    if (!s.feed(n, *now)) return std::unexpected(failed);
  }
  if (after) {
    if (!s.feed(n + 1, *after)) return std::unexpected(failed);
  } else {
    s.fed = -1;
    if (av_buffersrc_add_frame_flags(s.in, nullptr, 0) < 0) return std::unexpected(failed);
  }
  FramePtr made = s.take(n);
  if (!made) {
    s.fed = -1;
    return std::unexpected(failed);
  }
  return made;
}

bool FieldFilter::follows(Frames n) const { return n >= 0 && impl_->fed == n; }

Result<FramePtr> FieldJoiner::middle(Frames n, const FramePtr& before, const FramePtr& now, const FramePtr& after,
                                     double& waited_ms) {
  const Stopwatch waiting;
  const std::lock_guard lock(mutex_);
  waited_ms += waiting.ms();
  auto* filter = std::find_if(std::begin(filters_), std::end(filters_), [n](const FieldFilter& f) { return f.follows(n); });
  if (filter == std::end(filters_)) filter = filters_ + oldest_, oldest_ = (oldest_ + 1) % kFilters;
  return filter->middle(n, before, now, after);
}

}  // namespace gc
