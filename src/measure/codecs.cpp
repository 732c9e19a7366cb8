#include "measure/codecs.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <thread>

#include "base/clock.h"
#include "media/compare.h"
#include "media/convert.h"
#include "media/synthetic.h"
#include "media/writer.h"

namespace gc {
namespace {

/// Milliseconds of decoding each frame after the first, on this thread.
Result<std::vector<float>> decode_all(const std::string& path, Frames frames) {
  auto reader = FrameReader::open(path);
  if (!reader) return std::unexpected(reader.error());
  std::vector<float> ms;
  for (Frames i = 0; i < frames; ++i) {
    ReadTimes t;
    auto frame = (*reader)->read(i, &t);
    if (!frame) return std::unexpected(frame.error());
    if (i > 0) ms.push_back(static_cast<float>(t.decode_cpu_ms));
  }
  return ms;
}

Result<FormCost> measure_form(Form form, const std::vector<Image>& pictures, Rate rate, const fs::path& file,
                              Notebook* notebook, int workers) {
  FormCost cost;
  const int width = pictures.front().width(), height = pictures.front().height();
  cost.form = form_name(form), cost.width = width, cost.height = height;
  cost.bits = form_bits(form), cost.alpha = form_has_alpha(form), cost.threads = workers;
  auto writer = MovieWriter::create(file.string(), form, width, height, rate);
  if (!writer) return std::unexpected(writer.error());
  std::vector<float> encode;
  for (const Image& p : pictures) {
    const Stopwatch watch;  // some encoders have threads of their own
    if (auto r = (*writer)->write(p); !r) return std::unexpected(r.error());
    encode.push_back(static_cast<float>(watch.ms()));
  }
  if (auto r = (*writer)->finish(); !r) return std::unexpected(r.error());
  writer->reset();
  std::error_code e;
  const auto frames = static_cast<Frames>(pictures.size());
  cost.bytes = static_cast<double>(fs::file_size(file, e)) / static_cast<double>(frames);
  cost.encode_ms = median_of(encode).median;

  auto reader = FrameReader::open(file.string());
  if (!reader) return std::unexpected(reader.error());
  double error = 0, same = 0;
  std::vector<double> squared;
  for (Frames i = 0; i < frames; ++i) {
    auto frame = (*reader)->read(i);
    if (!frame) return std::unexpected(frame.error());
    auto image = to_image(**frame, width, height);
    if (!image) return std::unexpected(image.error());
    const double db = psnr(pictures[static_cast<std::size_t>(i)], *image);
    error += std::isfinite(db) ? std::pow(10, -db / 10) : 0;
    same += ssim(pictures[static_cast<std::size_t>(i)], *image);
  }
  error /= static_cast<double>(frames);
  cost.psnr_db = error > 0 ? std::min(1000.0, -10 * std::log10(error)) : 1000;
  cost.ssim = same / static_cast<double>(frames);

  const auto one = decode_all(file.string(), frames);
  if (!one) return std::unexpected(one.error());
  cost.decode_ms = median_of(*one).median;
  const Stopwatch watch;
  std::vector<std::thread> threads;
  std::atomic<int> decoded{0};
  std::vector<std::vector<StageSample>> samples(static_cast<std::size_t>(workers));
  for (int w = 0; w < workers; ++w)
    threads.emplace_back([&, w] {
      const GaugeScope gauge;
      auto own = FrameReader::open(file.string());
      if (!own) return;
      for (Frames i = 0; i < frames; ++i) {
        ReadTimes t;
        gauge_again();
        if (!(*own)->read(i, &t)) return;
        ++decoded;
        if (i > 0)
          samples[static_cast<std::size_t>(w)].push_back({StageKind::decode,
                                                          {},
                                                          static_cast<float>(t.decode_ms),
                                                          static_cast<float>(t.decode_cpu_ms),
                                                          -1,
                                                          gauge_around()});
      }
    });
  for (std::thread& t : threads) t.join();
  cost.decode_fps = decoded * 1000.0 / watch.ms();
  cost.encode_fps = cost.encode_ms > 0 ? 1000 / cost.encode_ms : 0;
  if (notebook) {
    // Learnt as the stage that a timeline with this file would have.
    MediaCatalog media;
    auto t = std::make_shared<Timeline>();
    t->width = width, t->height = height, t->rate = rate;
    auto m = std::make_shared<MediaSource>();
    m->id = "probe", m->path = m->url = file.string(), m->length = frames;
    t->sources["probe"] = m;
    auto s = std::make_shared<Segment>();
    s->id = s->ref = "probe", s->duration = frames;
    auto track = std::make_shared<Track>();
    track->id = "V1", track->items.push_back(SegmentPtr(s));
    t->tracks.push_back(track);
    const ProgramPtr program = Program::compile(t, media);
    for (const StageRef& ref : program->stages(0))
      if (ref.kind == StageKind::decode)
        for (const auto& of_thread : samples) notebook->learn(ref, of_thread);
  }
  return cost;
}

Result<CodecReport> measure_all(const std::vector<Image>& pictures, Rate rate, Notebook* notebook,
                                const CodecOptions& options,
                                const std::function<bool(const std::string&, double)>& progress) {
  const Stopwatch watch;
  CodecReport report;
  const auto folder = ScratchFolder::make(options.folder.empty() ? cache_folder() : options.folder, ".codec-");
  if (!folder) return std::unexpected(folder.error());
  for (std::size_t i = 0; i < options.forms.size(); ++i) {
    const Form form = options.forms[i];
    if (watch.ms() / 1000 > options.seconds) {
      report.left_out.push_back(fmt::format("{}: there was no time left", form_name(form)));
      continue;
    }
    if (progress &&
        !progress(form_name(form), static_cast<double>(i) / static_cast<double>(options.forms.size()))) {
      report.left_out.push_back(fmt::format("{}: stopped before it", form_name(form)));
      break;
    }
    const fs::path file = folder->path() / fmt::format("codec{}", form_extension(form));
    auto cost = measure_form(form, pictures, rate, file, notebook, options.workers);
    std::error_code e;
    fs::remove(file, e);
    if (cost) report.forms.push_back(*cost);
    else if (cost.error().fault == Fault::environment) return std::unexpected(cost.error());
    else report.left_out.push_back(fmt::format("{}: {}", form_name(form), cost.error().what));
  }
  report.seconds = watch.ms() / 1000;
  return report;
}

}  // namespace

Result<CodecReport> measure_codecs(const ProgramPtr& program, Notebook* notebook, const CodecOptions& options,
                                   const std::function<bool(const std::string&, double)>& progress) {
  if (program->duration() <= 0)
    return bad_input("the timeline is empty", {}, "Give a timeline with pictures in it.");
  std::vector<Frames> frames;
  for (int i = 0; i < options.frames; ++i)
    frames.push_back(program->duration() * (2 * i + 1) / (2 * options.frames));
  std::vector<Image> pictures;
  for (FrameResult& r : run_flat_out(program, nullptr, frames, options.workers, true))
    pictures.push_back(std::move(r.image));
  return measure_all(pictures, program->timeline()->rate, notebook, options, progress);
}

Result<CodecReport> measure_codecs(int width, int height, Notebook* notebook, const CodecOptions& options,
                                   const std::function<bool(const std::string&, double)>& progress) {
  std::vector<Image> pictures;
  for (int i = 0; i < options.frames; ++i)
    pictures.push_back(
        synthetic_frame(synthetic_scenes()[static_cast<std::size_t>(i) % synthetic_scenes().size()], i, width,
                        height, 5, 0.02f));
  return measure_all(pictures, {24, 1}, notebook, options, progress);
}

const char* purpose_name(Purpose p) {
  static constexpr const char* kNames[] = {"cutting", "colour decisions", "delivery"};
  return kNames[static_cast<std::size_t>(p)];
}

const FormCost* best_form(const std::vector<FormCost>& forms, const VolumeSpeed& volume, double fps,
                          Purpose purpose, double margin) {
  // Noise and chroma at half width bound what any of them can reach; what counts is the loss beyond that, as
  // long as it could be seen at all.
  double reference = 0;
  for (const FormCost& f : forms)
    if (f.form == form_name(Form::v210)) reference = f.psnr_db;
  if (reference == 0)
    for (const FormCost& f : forms) reference = std::max(reference, f.psnr_db);
  const auto good = [&](const FormCost& f) {
    if (f.alpha) return false;  // alpha is for compositions; it costs bytes that nothing here needs
    const double loss = reference - f.psnr_db;
    switch (purpose) {
      case Purpose::cutting:
        return loss <= 6 || f.psnr_db >= 44;
      case Purpose::colour:
        return f.bits >= 10 && (loss <= 3 || f.psnr_db >= 48);
      case Purpose::delivery:
        return f.bits >= 10 && (loss <= 1.5 || f.psnr_db >= 54);
    }
    return false;
  };
  const FormCost* best = nullptr;
  for (const FormCost& f : forms)
    if (good(f) && fit_of(f, volume, fps).margin() >= margin && (!best || f.bytes < best->bytes)) best = &f;
  return best;
}

}  // namespace gc
