#include "media/container.h"

#include <fstream>
#include <vector>

#include "media/av_text.h"

namespace gc {
namespace {

/// What a file may be, by libav's names. Lists of other files (playlists, concatenations) are not among them, nor
/// is anything that takes its name for a pattern.
constexpr const char* kContainers =
    "mov,mp4,m4a,3gp,3g2,mj2,matroska,webm,avi,mxf,mxf_opatom,mpegts,mpeg,mpegvideo,h264,hevc,m4v,mjpeg,"
    "mjpeg_2000,obu,av1,ivf,yuv4mpegpipe,nut,dv,flv,asf,gxf,ogg,vc1,dnxhd,gif,apng,rawvideo,wav,aiff,"
    "png_pipe,jpeg_pipe,tiff_pipe,dpx_pipe,exr_pipe,bmp_pipe,webp_pipe,j2k_pipe,jpegls_pipe,psd_pipe,"
    "sgi_pipe,sunrast_pipe,pam_pipe,pbm_pipe,pgm_pipe,ppm_pipe,pgmyuv_pipe,pfm_pipe,qoi_pipe,pictor_pipe,"
    "pcx_pipe,xwd_pipe,xbm_pipe,xpm_pipe,cri_pipe,dds_pipe,photocd_pipe,hdr_pipe,vbn_pipe,gem_pipe";

/// The container that the file's content alone speaks for. By its name a picture would be taken for one of a numbered
/// sequence, which is not read here.
const AVInputFormat* by_content(const std::string& path) {
  constexpr std::size_t kLookedAt = std::size_t{1} << 20;
  std::vector<unsigned char> bytes(kLookedAt + AVPROBE_PADDING_SIZE);
  std::ifstream file(path, std::ios::binary);
  file.read(reinterpret_cast<char*>(bytes.data()), kLookedAt);
  AVProbeData data{};
  data.filename = "", data.buf = bytes.data(), data.buf_size = static_cast<int>(file.gcount());
  return data.buf_size > 0 ? av_probe_input_format(&data, 1) : nullptr;
}

}  // namespace

Result<av::Format> open_container(const std::string& path, AVIOContext* io, AVIOInterruptCB interrupt) {
  AVFormatContext* format = nullptr;
  const auto open_as = [&](const AVInputFormat* kind) {
    format = avformat_alloc_context();
    format->pb = io;
    // Nothing but this one file is opened, whatever it says: no network, no list of other files.
    format->protocol_whitelist = av_strdup("file");
    format->format_whitelist = av_strdup(kContainers);
    format->interrupt_callback = interrupt;
    return avformat_open_input(&format, ("file:" + path).c_str(), kind, nullptr);
  };
  const auto not_read = [](int r) { return r == AVERROR_INVALIDDATA || r == AVERROR(EINVAL); };
  int r = open_as(nullptr);
  if (not_read(r))
    if (const AVInputFormat* kind = by_content(path)) {
      if (io) avio_seek(io, 0, SEEK_SET);
      r = open_as(kind);
    }
  if (not_read(r))
    return bad_input("is in none of the containers that are read here, or is damaged at its beginning", path,
                     "Make a copy as MOV, MP4, MXF, MKV or as pictures; docs/formats.md has the list.");
  if (r < 0) return bad_input("cannot be opened: " + av_text(r), path, "Replace the file with a whole copy.");
  return av::Format(format);
}

}  // namespace gc
