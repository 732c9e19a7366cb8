#include "render/renderer.h"

#include <algorithm>
#include <opencv2/core/ocl.hpp>
#include <utility>

#include "effects/motion.h"
#include "effects/points.h"
#include "media/convert.h"
#include "render/device.h"
#include "render/timed.h"
#include "timeline/keys.h"

namespace gc {
namespace {

/// Rounds every value to half precision, in place.
void round_half(Image& image) {
  cv::Mat full(image.height(), image.width() * 4, CV_32F, image.data()), half;
  cv::convertFp16(full, half);
  cv::convertFp16(half, full);
}

Image cropped(const Image& from, const cv::Rect& part) {
  Image image(part.width, part.height);
  for (int y = 0; y < part.height; ++y)
    std::copy_n(from.row(part.y + y) + 4 * part.x, 4 * part.width, image.row(y));
  image.opaque = from.opaque;
  return image;
}

/// A picture with its place on the raster.
struct Piece {
  Image image;
  int left = 0, top = 0;
};

/// Makes a frame of a program from what was decoded for it.
class Processor {
 public:
  Processor(const Decoded& decoded, StageLog& log, MemoryCache* cache, FrameNotes& notes)
      : decoded_(decoded), log_(log), cache_(cache), notes_(notes) {}

  /// The composited tracks: of the whole raster, or of the region alone.
  Image canvas_of(const Program& program, Frames frame, const Hash128& use) {
    const cv::Rect part = wanted(program);
    const int i = program.interval_at(frame);
    Image canvas;
    if (i >= 0)
      for (const CompiledLayer& layer : program.intervals()[static_cast<std::size_t>(i)].layers) {
        if (layer.from->content == Content::adjustment && !layer.to) {
          adjust(program, layer, frame, use, canvas);
          continue;
        }
        Image picture = layer_picture(program, layer, frame, use);
        const float opacity = layer.to ? 1.0f : layer.from->opacity_at(frame);
        const Blend blend = layer.from->blend;
        // As the forecast counts it: only what covers the raster goes in without a mix.
        if (canvas.empty() && layer.from->covers && (!layer.to || layer.to->covers)) {
          canvas = std::move(picture);
          continue;
        }
        timed(log_, layer.mix, [&] {
          if (canvas.empty()) canvas = Image::filled(part.width, part.height, 0, 0, 0, 0);
          composite(canvas, picture, opacity, blend);
        });
      }
    return canvas.empty() ? Image::filled(part.width, part.height, 0, 0, 0, 0) : std::move(canvas);
  }

  Image sealed(const Program& program) {
    const SealHit& hit = *decoded_.recipe.seal;
    return rendered(program, {{}, TapKind::frame, 0, hit.form, hit.width, hit.height}, request_name({}, decoded_.recipe.frame));
  }

  /// The last steps: to the colours of the screen, and a region back to its place.
  Image finished(const Program& program, Image canvas) {
    if (const CompiledEffect* out = program.output()) {
      const FrameContext at = context(program, 0, wanted(program).x, wanted(program).y);
      timed(log_, out->stage, [&] { out->fixed->apply(canvas, at); });
    }
    if (!program.options().region) return canvas;
    const cv::Rect part = on_raster(program, *program.options().region), have = wanted(program);
    Image whole = Image::filled(program.width(), program.height(), 0, 0, 0, 1);
    for (int y = 0; y < part.height; ++y)
      std::copy_n(canvas.row(part.y - have.y + y) + 4 * (part.x - have.x), 4 * part.width,
                  whole.row(part.y + y) + 4 * part.x);
    return whole;
  }

 private:
  /// Pixels of this raster that are asked for.
  static cv::Rect wanted(const Program& program) {
    const cv::Rect whole(0, 0, program.width(), program.height());
    const auto& r = program.working_region();
    return r ? on_raster(program, *r) : whole;
  }
  /// A region of the full raster in pixels of this one.
  static cv::Rect on_raster(const Program& program, const Region& r) {
    const cv::Rect whole(0, 0, program.width(), program.height());
    const int s = program.options().scale;
    const cv::Rect part =
        cv::Rect(r.x / s, r.y / s, std::max(1, r.width / s), std::max(1, r.height / s)) & whole;
    return part.empty() ? cv::Rect(0, 0, 1, 1) : part;
  }
  FrameContext context(const Program& program, Frames frame, int left, int top) const {
    FrameContext c;
    c.tiles = notes_.tiles;
    c.frame = frame;
    c.left = left, c.top = top;
    c.width = program.width(), c.height = program.height();
    c.scale = 1.0 / program.options().scale;
    c.draft = program.options().draft;
    return c;
  }

  Image stand_in(const Program& program) {
    notes_.stand_in = true;
    return hatched(program.width(), program.height());
  }

  Image layer_picture(const Program& program, const CompiledLayer& layer, Frames frame, const Hash128& use) {
    const cv::Rect part = wanted(program);
    if (layer.to && layer.kind == TransitionKind::morph && !program.options().rendering) {
      notes_.unseen = true;
      return cropped(unseen_picture(program.width(), program.height()), part);
    }
    Image picture = segment_picture(program, *layer.from, layer.from_matte.get(), frame, use);
    if (!layer.to) return picture;
    const Image incoming = segment_picture(program, *layer.to, layer.to_matte.get(), frame, use);
    const float t = layer.mix_at(frame);
    timed(log_, layer.transition, [&] {
      switch (layer.kind) {
        case TransitionKind::dissolve:
          dissolve(picture, incoming, t);
          break;
        case TransitionKind::dip:
          dip(picture, incoming, t, layer.colour);
          break;
        case TransitionKind::wipe:
          wipe(picture, incoming, t, layer.angle, layer.softness, part.x, part.y, program.width(),
               program.height());
          break;
        case TransitionKind::morph:
          picture = in_between(picture, incoming, t);
          break;
      }
    });
    return picture;
  }

  /// Works on everything below: the stack runs on the canvas, and opacity and matte say how much of it
  /// counts.
  void adjust(const Program& program, const CompiledLayer& layer, Frames frame, const Hash128& use,
              Image& canvas) {
    const CompiledSegment& s = *layer.from;
    const cv::Rect part = wanted(program);
    if (canvas.empty()) canvas = Image::filled(part.width, part.height, 0, 0, 0, 0);
    const float opacity = s.opacity_at(frame);
    const bool whole = !layer.counts_partly(frame);
    Piece piece{whole ? std::move(canvas) : canvas.copy(), part.x, part.y};
    run_effects(program, s, 0, s.effects.size(), frame, piece);
    if (whole) {
      canvas = std::move(piece.image);
      return;
    }
    Image weight;
    if (layer.from_matte) {
      const Image matte = layer_picture(program, *layer.from_matte, frame, use);
      timed(log_, s.matte_stage, [&] {
        weight = Image::filled(part.width, part.height, 1, 1, 1, 1);
        apply_matte(weight, matte, s.segment->matte.luma, s.segment->matte.inverted);
      });
    }
    timed(log_, layer.mix, [&] {
      if (weight.empty()) return dissolve(canvas, piece.image, opacity);
      float* c = canvas.data();
      for (std::size_t k = 0; k < canvas.floats(); ++k)
        c[k] += (piece.image.data()[k] - c[k]) * weight.data()[k / 4 * 4 + 3] * opacity;
    });
  }

  /// A segment's picture with its stack and its matte, cut to what is wanted.
  Image segment_picture(const Program& program, const CompiledSegment& s, const CompiledLayer* matte,
                        Frames frame, const Hash128& use) {
    const cv::Rect part = wanted(program);
    if (s.unseen && !s.inner && !program.options().rendering && !decoded_.recipe.tap_of(use_of(use, s), frame)) {
      notes_.unseen = true;
      return cropped(unseen_picture(program.width(), program.height()), part);
    }
    Piece piece = stack_picture(program, s, frame, s.effects.size(), use);
    if (piece.image.width() != part.width || piece.image.height() != part.height)
      piece.image = cropped(piece.image, {part.x - piece.left, part.y - piece.top, part.width, part.height});
    if (program.options().half) round_half(piece.image);
    if (!s.segment->matte.track.empty()) {
      const Image shape = matte ? layer_picture(program, *matte, frame, use)
                                : Image::filled(part.width, part.height, 0, 0, 0, 0);
      timed(log_, s.matte_stage,
            [&] { apply_matte(piece.image, shape, s.segment->matte.luma, s.segment->matte.inverted); });
    }
    return std::move(piece.image);
  }

  /// A picture that rendered media have, on this raster.
  Image rendered(const Program& program, const TapUse& tap, const Hash128& name) {
    Image image;
    const auto it = decoded_.index.find(name);
    if (const FramePtr picture = it == decoded_.index.end() ? nullptr : decoded_.pictures[it->second])
      timed(log_, program.rendered_stages(tap)[2], [&] {
        const Placement whole{Placement::Shape::stretch, 1, program.options().draft};
        if (auto converted = to_image(*picture, program.width(), program.height(), whole)) image = std::move(*converted);
        else notes_.trouble.push_back(converted.error().text());
      });
    if (!image.empty()) return image;
    notes_.not_kept.push_back(name);
    return stand_in(program);
  }

  /// The content after the first `count` effects.
  Piece stack_picture(const Program& program, const CompiledSegment& s, Frames frame, std::size_t count,
                      const Hash128& use) {
    if (const Tap* tap = decoded_.recipe.tap_of(use_of(use, s), frame); tap && tap->is.kind == TapKind::stack) {
      Piece piece{rendered(program, tap->is, tap->name), 0, 0};
      run_effects(program, s, tap->is.after, count, frame, piece);
      return piece;
    }
    const int j = s.last_temporal(count);
    if (j < 0) {
      Piece piece{content_picture(program, s, frame, use), 0, 0};
      run_effects(program, s, 0, count, frame, piece);
      return piece;
    }
    const auto temporal = static_cast<std::size_t>(j);
    const CompiledEffect& e = s.effects[temporal];
    std::vector<MemoryCache::Picture> held(static_cast<std::size_t>(e.window.length()));
    std::vector<const Image*> window;
    note_window(program, s, frame, temporal);
    // First those that nobody makes, then those that other frames in work are making: else frames side by
    // side would take turns, each waiting for the one that the other has just begun.
    for (const bool wait : {false, true})
      for (int d = -e.window.before; d <= e.window.after; ++d)
        if (MemoryCache::Picture& p = held[static_cast<std::size_t>(d + e.window.before)]; !p)
          p = shared(program, s, s.neighbour(frame, d, program.timeline()->rate), temporal, use, wait);
    for (const MemoryCache::Picture& p : held) {
      window.push_back(p.get());
      notes_.stand_in = notes_.stand_in || p->stand_in;
    }
    Piece piece;
    FrameContext at = context(program, frame - s.in, 0, 0);
    at.window = window;
    const auto run = e.at(frame - s.in);
    bool made = false;
    timed(log_, e.stage_at(frame - s.in), [&] {
      if (auto image = run->of_window(at)) piece.image = std::move(*image), made = true;
    });
    if (!made) {
      log_.pop_back();
      piece.image = held[static_cast<std::size_t>(e.window.before)]->copy();
      timed(log_, e.stage_at(frame - s.in), [&] { run->apply(piece.image, at); });
    }
    run_effects(program, s, temporal + 1, count, frame, piece);
    return piece;
  }

  void note_window(const Program& program, const CompiledSegment& s, Frames frame, std::size_t effect) {
    if (depth_ == 0) {
      const Program::WindowPictures looks_at = program.window_pictures(s, frame, effect);
      ++notes_.windows, notes_.fresh += looks_at.fresh;
      notes_.below[0].neighbours = std::max(notes_.below[0].neighbours, looks_at.others);
    } else if (depth_ < notes_.below.size()) {
      // Each picture above has a window of its own: together they reach farther by that. Of pictures that stay none reaches anywhere.
      const int above = notes_.below[depth_ - 1].neighbours;
      if (above > 0) notes_.below[depth_].neighbours = std::max(notes_.below[depth_].neighbours, above + s.effects[effect].window.length() - 1);
    }
  }

  /// A neighbour's picture, made once for all frames that want it. Neighbours are always whole. Null while
  /// another thread makes it, unless it is to be waited for.
  MemoryCache::Picture shared(const Program& program, const CompiledSegment& s, Frames frame,
                              std::size_t count, const Hash128& use, bool wait) {
    const auto make = [&] {
      const bool whole_before = std::exchange(whole_, true);
      const double below_before = std::exchange(below_ms_, 0.0);
      WindowNotes& level = notes_.below[std::min(depth_, notes_.below.size() - 1)];
      ++depth_;
      const bool stood_in_before = std::exchange(notes_.stand_in, false);
      const Stopwatch watch;
      Image image = std::move(stack_picture(program, s, frame, count, use).image);
      // Other frames that take it from the cache must know.
      image.stand_in = notes_.stand_in;
      notes_.stand_in = notes_.stand_in || stood_in_before;
      whole_ = whole_before, --depth_;
      const double all = watch.ms();
      ++level.made, level.made_ms += all - below_ms_, below_ms_ = below_before + all;
      return image;
    };
    if (!cache_) return std::make_shared<const Image>(make());
    const Hash128 key = Hasher()
                            .add(program.stack_key(s, frame, count))
                            .add(program.width())
                            .add(program.height())
                            .add(program.options().draft * 2 + program.options().rendering)
                            .done();
    return wait ? cache_->get(key, make) : cache_->get_unless_busy(key, make);
  }

  Image content_picture(const Program& program, const CompiledSegment& s, Frames frame, const Hash128& use) {
    const int w = program.width(), h = program.height();
    switch (s.content) {
      case Content::source: {
        const SourcePosition p = s.position_at(frame, program.timeline()->rate);
        Image image = source_picture(program, s, p.frame, use);
        if (p.fraction <= 0) return image;
        const Image next = source_picture(program, s, p.frame + 1, use);
        timed(log_, s.retime, [&] {
          if (s.unseen) image = in_between(image, next, static_cast<float>(p.fraction));
          else dissolve(image, next, static_cast<float>(p.fraction));
        });
        return image;
      }
      case Content::generator: {
        Image image(w, h);
        timed(log_, s.convert,
              [&] { s.generator.at(frame - s.in)->apply(image, context(program, frame - s.in, 0, 0)); });
        return image;
      }
      case Content::composition: {
        if (const Tap* tap = decoded_.recipe.tap_of(use_of(use, s), frame)) {
          Image image = rendered(program, tap->is, tap->name);
          image.opaque = s.opaque;  // whatever the form can say of it
          return image;
        }
        Image image = canvas_of(*s.inner, s.frame_at(frame, program.timeline()->rate), use_of(use, s));
        image.opaque = image.opaque && s.opaque;  // as the forecast counts it: the same stages at every frame
        return image;
      }
      case Content::offline:
      case Content::adjustment:
        break;
    }
    return stand_in(program);
  }

  Image source_picture(const Program& program, const CompiledSegment& s, Frames source_frame,
                       const Hash128& use) {
    const auto it = decoded_.index.find(request_name(use_of(use, s), source_frame));
    const FramePtr picture = it == decoded_.index.end() ? nullptr : decoded_.pictures[it->second];
    if (!picture) return stand_in(program);
    const auto& taps = decoded_.recipe.taps;
    const auto tap = std::find_if(taps.begin(), taps.end(), [&](const Tap& t) { return t.name == it->first; });
    Image image;
    timed(log_, tap == taps.end() ? s.convert : program.rendered_stages(tap->is)[2], [&] {
      if (auto converted = to_image(*picture, program.width(), program.height(), s.placement))
        image = std::move(*converted);
      else notes_.trouble.push_back(converted.error().text());
    });
    if (image.empty()) {
      if (tap != taps.end()) notes_.not_kept.push_back(tap->name);
      return stand_in(program);
    }
    image.opaque = image.opaque && s.opaque;
    return image;
  }

  /// Runs effects [from, to) of a stack.
  void run_effects(const Program& program, const CompiledSegment& s, std::size_t from, std::size_t to,
                   Frames frame, Piece& piece) {
    for (std::size_t i = from; i < to;) {
      narrow(program, s, i, to, frame, piece);
      const CompiledEffect& e = s.effects[i];
      const FrameContext at = context(program, frame - s.in, piece.left, piece.top);
      if (goes_over(e)) {
        std::size_t end = i;
        while (end < to && goes_over(s.effects[end])) ++end;
        if (run_on_accelerator(s, i, end, at, piece)) i = end;
      } else if (e.point) {
        i = run_fused(s, i, to, at, piece);
      } else {
        const auto run = e.at(frame - s.in);
        if (!run->identity()) timed(log_, e.stage_at(frame - s.in), [&] { run->apply(piece.image, at); });
        ++i;
      }
    }
  }
  static bool goes_over(const CompiledEffect& e) {
    return e.device == Device::accelerator && accelerator_working();
  }

  /// A region is cut out, with what the effects to come reach beyond it, as soon as none of them needs the
  /// whole.
  void narrow(const Program& program, const CompiledSegment& s, std::size_t from, std::size_t to,
              Frames frame, Piece& piece) {
    if (!program.working_region() || whole_) return;
    int reach = 0;
    for (std::size_t i = from; i < to; ++i) {
      if (s.effects[i].whole) return;
      reach += s.effects[i].fixed ? s.effects[i].reach : s.effects[i].at(frame - s.in)->reach();
    }
    const cv::Rect part = wanted(program);
    const cv::Rect have(piece.left, piece.top, piece.image.width(), piece.image.height());
    const cv::Rect need =
        cv::Rect(part.x - reach, part.y - reach, part.width + 2 * reach, part.height + 2 * reach) & have;
    if (need == have) return;
    piece.image = cropped(piece.image, {need.x - have.x, need.y - have.y, need.width, need.height});
    piece.left = need.x, piece.top = need.y;
  }

  /// Point operations in a row pass over each tile one after another.
  std::size_t run_fused(const CompiledSegment& s, std::size_t from, std::size_t to, const FrameContext& at,
                        Piece& piece) {
    std::vector<std::shared_ptr<const EffectInstance>> held;
    std::vector<const PointInstance*> points;
    std::vector<const CompiledEffect*> whose;
    std::size_t i = from;
    for (; i < to; ++i) {
      const CompiledEffect& e = s.effects[i];
      if (!e.point || (e.device == Device::accelerator && i > from && accelerator_working())) break;
      held.push_back(e.at(at.frame));
      if (held.back()->identity()) continue;
      points.push_back(static_cast<const PointInstance*>(held.back().get()));
      whose.push_back(&e);
    }
    if (points.empty()) return i;
    const DoingScope says(words_of(whose.front()->stage_at(at.frame)));
    const CpuStopwatch cpu;
    const Stopwatch wall;
    std::vector<double> ms;
    run_points(points, piece.image, at, &ms);
    const double share = wall.ms() > 0 ? cpu.ms() / wall.ms() : 1;
    const float gauge = gauge_around();
    double ended = now_ms() - wall.ms();
    for (std::size_t k = 0; k < points.size(); ++k) {
      const StageRef& stage = whose[k]->stage_at(at.frame);
      log_.push_back({stage.kind, stage.key, static_cast<float>(ms[k]), static_cast<float>(ms[k] * share),
                      stage.owner, gauge});
      // They took turns from tile to tile; in the log one comes after the other.
      log_.back().ended_ms = ended += ms[k];
    }
    return i;
  }

  /// Effects [from, to) on the accelerator. The picture in this memory stays as it was until they have all
  /// succeeded, so that a device that fails half-way loses nothing: false, and the processor starts over with
  /// them.
  bool run_on_accelerator(const CompiledSegment& s, std::size_t from, std::size_t to, const FrameContext& at,
                          Piece& piece) {
    const std::size_t logged = log_.size();
    bool opaque = piece.image.opaque;
    try {
      cv::UMat image;
      timed(log_, s.effects[from].transfer, [&] { as_mat<cv::Mat>(piece.image).copyTo(image); });
      bool done = true;
      for (std::size_t i = from; i < to && done; ++i) {
        const CompiledEffect& e = s.effects[i];
        const auto run = e.at(at.frame);
        if (run->identity()) continue;
        timed(log_, e.stage_at(at.frame), [&] {
          done = !accelerator_drill() && run->apply(image, opaque, at);
          cv::ocl::finish();
        });
        if (e.type->places) opaque = false;
      }
      if (done) {
        timed(log_, s.effects[from].transfer, [&] {
          cv::Mat to_here = as_mat<cv::Mat>(piece.image);
          image.copyTo(to_here);
        });
        piece.image.opaque = opaque;
        return true;
      }
    } catch (const cv::Exception&) {
      // Told apart from success only; what a driver says helps nobody at the desk.
    }
    log_.resize(logged);
    accelerator_failed();
    notes_.trouble.push_back(
        "The accelerator failed; the processor does its work from here on, and no frame was lost. Start the "
        "program "
        "again to use the accelerator again.");
    return false;
  }

  const Decoded& decoded_;
  StageLog& log_;
  MemoryCache* cache_;
  FrameNotes& notes_;
  bool whole_ = false;  ///< making a neighbour, which is whole whatever the region
  std::size_t depth_ = 0;  ///< effects that look at neighbours above the picture in work
  double below_ms_ = 0;    ///< of the picture in work, what making its neighbours took
};

}  // namespace

Image process(const Program& program, const Decoded& decoded, StageLog& log, MemoryCache* cache,
              FrameNotes* notes) {
  FrameNotes unheard;
  const DoingScope says("", decoded.recipe.frame);
  const Program& playing = program.playing(decoded.recipe.frame);
  Processor p(decoded, log, cache, notes ? *notes : unheard);
  if (decoded.recipe.seal) return p.sealed(playing);
  return p.finished(playing, p.canvas_of(playing, decoded.recipe.frame, {}));
}

std::optional<ScreenImage> straight_to_screen(const Program& whole, const Decoded& decoded, StageLog& log) {
  const FrameRecipe& recipe = decoded.recipe;
  const Program& program = whole.playing(recipe.frame);
  if (decoded.pictures.size() != 1 || !decoded.pictures.front()) return std::nullopt;
  const bool usual = recipe.seal && recipe.seal->form == Form::vc3_hqx &&
                     (recipe.seal->width == 0 || recipe.seal->width == program.timeline()->width);
  const CompiledSegment* s = recipe.seal ? nullptr : program.straight(recipe.frame);
  const StageRef* sealed = usual ? program.straight_sealed() : nullptr;
  const std::optional<StageRef> live = s ? program.straight_stage(recipe.frame, recipe.pattern()) : std::nullopt;
  if (!live && !sealed) return std::nullopt;
  const StageRef& stage = live ? *live : *sealed;
  ScreenImage screen;
  bool done = false;
  timed(log, stage, [&] {
    const auto shown = to_screen(*decoded.pictures.front(), program.width(), program.height(),
                                 s ? s->placement : Placement{}, screen);
    done = shown && *shown;
  });
  if (done) return screen;
  log.pop_back();
  return std::nullopt;
}

Image render_frame(const Program& program, Frames frame, const SealLookup* seals, Decoders& decoders,
                   StageLog& log, MemoryCache* cache, FrameNotes* notes) {
  const Decoded decoded = fetch_and_decode(program, frame, seals, decoders, log);
  if (notes) notes->trouble = decoded.trouble;
  // Neighbours are shared within one frame too: a window of a window asks for the same pictures.
  MemoryCache own(std::size_t{1} << 30);
  return process(program, decoded, log, cache ? cache : &own, notes);
}

}  // namespace gc
