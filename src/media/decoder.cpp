#include "media/decoder.h"

#include <dirent.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <fstream>

#include "base/clock.h"
#include "base/priority.h"
#include "media/av_text.h"

namespace gc {
namespace {

/// What may decode it, by libav's names.
constexpr const char* kDecoders =
    "h264,hevc,libdav1d,av1,libaom-av1,vp8,vp9,libvpx,libvpx-vp9,mpeg1video,mpeg2video,mpegvideo,mpeg4,msmpeg4v1,"
    "msmpeg4v2,msmpeg4,h261,h263,h263i,h263p,flv,wmv1,wmv2,wmv3,vc1,theora,dirac,cinepak,svq1,svq3,indeo3,"
    "prores,dnxhd,cfhd,mjpeg,mjpegb,jpeg2000,libopenjpeg,jpegls,ljpeg,dvvideo,ffv1,huffyuv,ffvhuff,utvideo,magicyuv,"
    "hap,hqx,hq_hqa,speedhq,notchlc,cllc,aic,lagarith,snow,vble,zlib,mszh,qtrle,rpza,smc,8bps,msrle,msvideo1,"
    "v210,v210x,v308,v408,v410,r210,r10k,avrp,avui,avrn,ayuv,yuv4,y41p,012v,rawvideo,wrapped_avframe,"
    "png,apng,tiff,exr,dpx,bmp,webp,gif,targa,targa_y216,pam,pbm,pgm,pgmyuv,ppm,pfm,psd,sgi,sunrast,qoi,pictor,pcx,"
    "xwd,xbm,xpm,cri,dds,photocd,hdr,vbn,gem,bitpacked,asv1,asv2";

/// Memory that the pictures in work of one decoder may take.
constexpr std::int64_t kMostInWork = std::int64_t{256} << 20;
constexpr int kMostThreads = 16;

/// Threads of this process that have this name, but for the one that asks.
std::vector<int> threads_named(const std::string& name) {
  std::vector<int> found;
  const auto self = static_cast<int>(syscall(SYS_gettid));
  DIR* all = opendir("/proc/self/task");
  if (!all) return found;
  while (const dirent* entry = readdir(all)) {
    const int id = std::atoi(entry->d_name);
    if (id <= 0 || id == self) continue;
    std::ifstream file("/proc/self/task/" + std::string(entry->d_name) + "/comm");
    if (std::string is; std::getline(file, is) && is == name) found.push_back(id);
  }
  closedir(all);
  return found;
}

/// Opens a decoder, and finds the threads that it starts: they inherit a name that nobody else has.
int open_and_find_threads(AVCodecContext* context, const AVCodec* codec, std::vector<clockid_t>& clocks) {
  static std::atomic<unsigned> opened{0};
  char before[16] = {};
  prctl(PR_GET_NAME, before);
  const std::string name = "decode-" + std::to_string(opened++ % 10'000'000);
  prctl(PR_SET_NAME, name.c_str());
  const int r = avcodec_open2(context, codec, nullptr);
  const std::vector<int> threads = threads_named(name);
  prctl(PR_SET_NAME, before);
  // To those that make frames of what is decoded: these would else be counted slower than they are, and have nothing to do
  // anyway when decoding lags.
  for (const int id : threads) {
    give_way(id);
    // The clock of a thread's processor time, by its number (Linux: clock ids of threads and processes).
    clocks.push_back(static_cast<clockid_t>((~static_cast<unsigned>(id) << 3) | 6U));
  }
  return r;
}

}  // namespace

/// Files are named by the standard of their codec.
std::string designation(AVCodecID id) {
  switch (id) {
    case AV_CODEC_ID_H264:
      return "H.264";
    case AV_CODEC_ID_HEVC:
      return "H.265";
    case AV_CODEC_ID_DNXHD:
      return "VC-3";
    case AV_CODEC_ID_PRORES:
      return "RDD 36";
    case AV_CODEC_ID_CFHD:
      return "VC-5";
    case AV_CODEC_ID_MJPEG:
      return "Motion JPEG";
    case AV_CODEC_ID_FFV1:
      return "FFV1";
    case AV_CODEC_ID_V210:
      return "v210";
    default:
      return avcodec_get_name(id);
  }
}

double Decoder::work_ms() const {
  double ms = 0;
  for (const clockid_t clock : threads)
    if (timespec t{}; clock_gettime(clock, &t) == 0)
      ms += static_cast<double>(t.tv_sec) * 1e3 + static_cast<double>(t.tv_nsec) / 1e6;
  return ms;
}

Result<std::shared_ptr<StreamCodec>> StreamCodec::of(AVFormatContext* format, AVStream* stream, const std::string& path) {
  std::shared_ptr<StreamCodec> s(new StreamCodec);
  s->path_ = path;
  s->codec_ = avcodec_find_decoder(stream->codecpar->codec_id);
  if (!s->codec_)
    return bad_input("uses a codec that cannot be decoded here: " + designation(stream->codecpar->codec_id), path,
                     "Make a copy in another codec.");
  s->parameters_ = avcodec_parameters_alloc();
  if (const int r = avcodec_parameters_copy(s->parameters_, stream->codecpar); r < 0)
    return bad_input("has damaged codec parameters: " + av_text(r), path, "Replace the file with a whole copy.");
  s->time_base_ = stream->time_base;
  s->aspect_ = av_guess_sample_aspect_ratio(format, stream, nullptr);
  std::size_t size = 0;
  if (const std::uint8_t* matrix = av_stream_get_side_data(stream, AV_PKT_DATA_DISPLAYMATRIX, &size);
      matrix && size >= 9 * sizeof(std::int32_t))
    s->matrix_.assign(matrix, matrix + size);
  return s;
}

Result<Decoder> StreamCodec::open(int threads) const {
  Decoder d;
  d.context.reset(avcodec_alloc_context3(codec_));
  AVCodecContext* c = d.context.get();
  c->codec_whitelist = av_strdup(kDecoders);
  c->max_pixels = static_cast<std::int64_t>(kMostPixels) * kMostPixels;
  if (const int r = avcodec_parameters_to_context(c, parameters_); r < 0)
    return bad_input("has damaged codec parameters: " + av_text(r), path_, "Replace the file with a whole copy.");
  c->pkt_timebase = time_base_;
  c->thread_count = std::max(1, threads);
  const int r = threads > 1 ? open_and_find_threads(c, codec_, d.threads) : avcodec_open2(c, codec_, nullptr);
  if (r < 0)
    return bad_input("cannot be decoded: " + av_text(r), path_, "Replace the file with a whole copy.");
  return d;
}

bool StreamCodec::stands_alone() const {
  const AVCodecDescriptor* d = avcodec_descriptor_get(parameters_->codec_id);
  // FFV1 may carry its statistics over from frame to frame, which its description does not say.
  return d && (d->props & AV_CODEC_PROP_INTRA_ONLY) && parameters_->codec_id != AV_CODEC_ID_FFV1 &&
         !(codec_->capabilities & AV_CODEC_CAP_DELAY);
}

int StreamCodec::most_threads() const {
  // Libraries behind libavcodec start threads that cannot be told from others.
  if (!(codec_->capabilities & (AV_CODEC_CAP_FRAME_THREADS | AV_CODEC_CAP_SLICE_THREADS))) return 1;
  const std::int64_t pixels = std::int64_t{std::max(1, parameters_->width)} * std::max(1, parameters_->height);
  return static_cast<int>(std::clamp<std::int64_t>(kMostInWork / (3 * pixels), 1, kMostThreads));
}

Result<std::shared_ptr<AVFrame>> StreamCodec::decode(const AVPacket& packet) {
  const auto damaged = [this](int code) {
    return bad_input("is damaged: " + av_text(code), path_, "Replace the file with a whole copy.");
  };
  Decoder mine;
  {
    const std::lock_guard lock(mutex_);
    if (!idle_.empty()) mine = std::move(idle_.back()), idle_.pop_back();
  }
  if (!mine.context) {
    auto opened = open(1);
    if (!opened) return std::unexpected(opened.error());
    mine = std::move(*opened);
  }
  std::shared_ptr<AVFrame> frame(av_frame_alloc(), [](AVFrame* f) { av_frame_free(&f); });
  int r = avcodec_send_packet(mine.context.get(), &packet);
  if (r >= 0) r = avcodec_receive_frame(mine.context.get(), frame.get());
  if (r < 0) return damaged(r);
  {
    const std::lock_guard lock(mutex_);
    idle_.push_back(std::move(mine));
  }
  dress(*frame);
  return frame;
}

void StreamCodec::dress(AVFrame& frame) const {
  if (aspect_.num > 0 && aspect_.den > 0) frame.sample_aspect_ratio = aspect_;
  if (matrix_.empty() || av_frame_get_side_data(&frame, AV_FRAME_DATA_DISPLAYMATRIX)) return;
  if (AVFrameSideData* side = av_frame_new_side_data(&frame, AV_FRAME_DATA_DISPLAYMATRIX, matrix_.size()))
    std::copy(matrix_.begin(), matrix_.end(), side->data);
}

}  // namespace gc
