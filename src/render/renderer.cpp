#include "render/renderer.h"

#include <algorithm>

#include "base/clock.h"
#include "media/convert.h"

namespace gc {
namespace {

/// Times a step and adds it to the log.
template <class F>
void timed(StageLog& log, const StageRef& stage, F&& step) {
  const Stopwatch wall;
  const CpuStopwatch cpu;
  step();
  log.push_back(
      {stage.kind, stage.key, static_cast<float>(wall.ms()), static_cast<float>(cpu.ms()), stage.owner});
}

/// Walks a program in the order in which the requests were gathered.
class Processor {
 public:
  Processor(const Decoded& decoded, StageLog& log) : decoded_(decoded), log_(log) {}

  Image canvas_of(const Program& program, Frames frame) {
    const int w = program.timeline()->width, h = program.timeline()->height;
    const int i = program.interval_at(frame);
    Image canvas;
    if (i >= 0)
      for (const CompiledLayer& layer : program.intervals()[static_cast<std::size_t>(i)].layers) {
        Image picture = segment_picture(program, *layer.from, frame);
        if (layer.to) {
          const Image incoming = segment_picture(program, *layer.to, frame);
          timed(log_, program.transition_stage(), [&] { dissolve(picture, incoming, layer.mix_at(frame)); });
        }
        if (canvas.empty() && picture.opaque) {
          canvas = std::move(picture);
          continue;
        }
        timed(log_, program.mix_stage(), [&] {
          if (canvas.empty()) canvas = Image::filled(w, h, 0, 0, 0, 0);
          composite_over(canvas, picture, 1.0f);
        });
      }
    return canvas.empty() ? Image::filled(w, h, 0, 0, 0, 0) : std::move(canvas);
  }

  Image sealed(const Program& program) {
    const Timeline& t = *program.timeline();
    Image image;
    timed(log_, program.sealed_stages()[2], [&] {
      if (auto converted = to_image(*decoded_.pictures.front(), t.width, t.height))
        image = std::move(*converted);
    });
    return image.empty() ? hatched(t.width, t.height) : std::move(image);
  }

 private:
  Image segment_picture(const Program& program, const CompiledSegment& s, Frames frame) {
    const int w = program.timeline()->width, h = program.timeline()->height;
    Image image;
    switch (s.content) {
      case Content::source: {
        const FramePtr picture = decoded_.pictures[next_++];
        if (!picture) return hatched(w, h);
        timed(log_, s.convert, [&] {
          if (auto converted = to_image(*picture, w, h)) image = std::move(*converted);
        });
        if (image.empty()) return hatched(w, h);
        image.opaque = s.opaque;
        break;
      }
      case Content::generator:
        timed(log_, s.convert, [&] {
          image = Image(w, h);
          s.generator->apply(image);
        });
        break;
      case Content::composition:
        image = canvas_of(*s.inner, s.frame_at(frame, program.timeline()->rate));
        image.opaque = image.opaque && s.opaque;  // as the forecast counts it: the same stages at every frame
        break;
      case Content::offline:
        ++next_;
        return hatched(w, h);
    }
    for (const CompiledEffect& e : s.effects) timed(log_, e.stage, [&] { e.run->apply(image); });
    return image;
  }

  const Decoded& decoded_;
  StageLog& log_;
  std::size_t next_ = 0;
};

}  // namespace

Result<FramePtr> Decoders::read(const DecodeRequest& request, Decoded& into, StageLog& log) {
  auto it = std::find_if(open_.begin(), open_.end(),
                         [&](const Open& o) { return o.lane == request.lane && o.path == request.path; });
  ReadTimes times;
  const Stopwatch opening;
  if (it == open_.end()) {
    auto reader = FrameReader::open(request.path);
    if (!reader) return std::unexpected(reader.error());
    open_.push_front({request.lane, request.path, std::move(*reader)});
    times.read_ms += opening.ms();
    times.cold = true;
    if (open_.size() > most_) open_.pop_back();
  } else {
    open_.splice(open_.begin(), open_, it);
  }
  auto frame = open_.front().reader->read(request.frame, &times);
  into.steady_ms += times.steady_ms();
  into.decodes_between = into.decodes_between || !open_.front().reader->info().intra;
  log.push_back({StageKind::read, request.read.key, static_cast<float>(times.read_ms),
                 static_cast<float>(times.read_ms), request.read.owner});
  log.push_back({StageKind::decode, request.decode.key, static_cast<float>(times.decode_ms),
                 static_cast<float>(times.decode_cpu_ms), request.decode.owner});
  return frame;
}

Decoded Decoders::fetch(const Program& program, FrameRecipe recipe, const SealLookup* seals, StageLog& log) {
  Decoded d;
  for (bool again = true; again;) {
    again = false;
    d.pictures.clear();
    d.steady_ms = 0, d.decodes_between = false;
    for (const DecodeRequest& request : recipe.requests) {
      if (request.offline) {
        d.pictures.push_back(nullptr);
        continue;
      }
      auto picture = read(request, d, log);
      if (picture) {
        d.pictures.push_back(std::move(*picture));
        continue;
      }
      d.trouble.push_back(picture.error().text());
      if (recipe.seal) {
        // Rendered media that cannot be read are worth nothing; the live frame is always the truth.
        seals->report_broken(*recipe.seal);
        recipe = program.recipe(recipe.frame, nullptr);
        again = true;
        break;
      }
      d.pictures.push_back(nullptr);
    }
  }
  d.recipe = std::move(recipe);
  return d;
}

Image process(const Program& program, const Decoded& decoded, StageLog& log) {
  Processor p(decoded, log);
  return decoded.recipe.seal ? p.sealed(program) : p.canvas_of(program, decoded.recipe.frame);
}

Image render_frame(const Program& program, Frames frame, const SealLookup* seals, Decoders& decoders,
                   StageLog& log) {
  const Decoded decoded = decoders.fetch(program, program.recipe(frame, seals), seals, log);
  return process(program, decoded, log);
}

Image hatched(int width, int height) {
  Image image(width, height);
  for (int y = 0; y < height; ++y) {
    float* p = image.row(y);
    for (int x = 0; x < width; ++x, p += 4) {
      const float v = ((x + y) / 24) % 2 ? 0.10f : 0.24f;
      p[0] = p[1] = p[2] = v;
      p[3] = 1;
    }
  }
  return image;
}

}  // namespace gc
