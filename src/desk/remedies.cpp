#include "desk/remedies.h"

#include <fmt/format.h>

#include <cmath>

#include "base/clock.h"
#include "desk/watched.h"
#include "media/compare.h"
#include "queue/hush.h"
#include "queue/sampling.h"
#include "remedy/kinds.h"
#include "render/played.h"

extern "C" {
#include <libavutil/frame.h>
}

namespace gc {

Situation situation_of(const View& view, const Stores& stores, const Forecast* before) {
  const Settings& settings = stores.options.settings;
  Situation s = situation_for(view.played, *stores.notebook, stores.shelf.get(), *stores.media, view.seals, stores.forecast_options(),
                              settings.rendering, stores.form_for(*view.timeline), before);
  s.timeline = view.timeline, s.delivered = view.delivered;
  s.usual = settings.playback_options();
  s.must_watch = known_must_watch(view, stores);
  return s;
}

RemedyFidelity fidelity_of(const Situation& s, const Proposal& p, const Shelf& shelf, int frames) {
  RemedyFidelity f;
  const Supposed then = p.kind->suppose(s, p);
  if (!then.program || p.at.length() <= 0) return f;
  f.psnr_db_worst = 1000, f.ssim_worst = 1;
  Decoders decoders;
  for (int i = 0; i < frames; ++i) {
    const Frames at = p.at.in + p.at.length() * (2 * i + 1) / (2 * frames);
    // A picture that is not made yet cannot be looked at.
    const FrameRecipe recipe = then.program->recipe(at, &shelf);
    if (p.kind->making(p) && recipe.pattern() != then.route.taps(static_cast<std::size_t>(at)) && !recipe.seal) continue;
    StageLog log;
    Image with = render_frame(*then.program, at, &shelf, decoders, log);
    const Image truth = render_frame(*s.delivered, at, nullptr, decoders, log);
    if (with.width() != truth.width() || with.height() != truth.height()) with = enlarged(with, truth.width(), truth.height());
    const double db = std::min(1000.0, psnr(with, truth));
    f.psnr_db_worst = std::min(f.psnr_db_worst, db), f.psnr_db_mean += db;
    f.ssim_worst = std::min(f.ssim_worst, ssim(with, truth));
    ++f.frames;
  }
  if (f.frames > 0) f.psnr_db_mean /= f.frames;
  return f;
}

Result<Applied> apply(const Situation& s, const Proposal& p, const Stores& stores, const std::string& who, const std::string& why,
                      const std::string& until, const std::function<bool(const PrerenderProgress&)>& progress,
                      const std::atomic<bool>& stop) {
  if (!p.refused.empty())
    return bad_input(fmt::format("{} is refused: {}", p.id, p.refused), s.timeline->name, "Choose another remedy with `gclk remedies`.");
  Applied done;
  done.timeline = s.timeline;
  const auto making = p.kind->making(p);
  if (making && p.kind->name() != std::string("seat")) {
    PrerenderOptions options = stores.prerender_options({}, *s.timeline);
    options.form = p.subject.form;
    auto made = carry_out(s, *making, *stores.shelf, options, progress);
    if (!made) return std::unexpected(made.error());
    done.made = *made, done.taken_seconds = made->seconds, done.said_seconds = p.quote.seconds;
    if (made->cancelled) return done;
    if (made->frames > 0 && made->already_sealed == 0 && p.quote.known)
      if (auto r = stores.notebook->add_price({now_utc(), made->frames, p.quote.modelled_seconds, p.quote.seconds, made->seconds}); !r)
        return std::unexpected(r.error());
  }
  if (auto slip = p.kind->slip(p)) {
    slip->who = who, slip->why = why, slip->until = until;
    done.timeline = with_slip(*s.timeline, *slip, now_utc());
    if (!done.timeline) return bad_input(p.id + " has nothing to be of now", s.timeline->name, "Look at the remedies again.");
  } else if (const TimelinePtr edited = p.kind->edit(s, p)) {
    done.timeline = edited;
  }
  // Played at once in its place, unseen: does it cost what was said?
  const View then = view_of(done.timeline, stores);
  const FrameRange second{p.at.in, std::min({p.at.out, p.at.in + static_cast<Frames>(std::lround(s.now->rate.fps())), then.played->duration()})};
  if (second.length() <= 0 || stop || p.kind->name() == std::string("memory")) return done;
  const Forecast said = forecast(*then.played, *stores.notebook, then.seals, second, s.forecast);
  NullDisplay nowhere;
  const Hush hush;
  const Playout seen = play(then.played, stores.shelf.get(), second, stores.play_options(PlayMode::on_the_clock, then, second), nowhere, stop);
  if (seen.stopped) return done;
  for (const IntervalCost& c : said.intervals) done.load_said += c.load * static_cast<double>(c.out - c.in) / static_cast<double>(second.length());
  double ms = 0;
  Frames made = 0;
  for (const FrameLog& l : seen.log)
    if (l.made) ms += own_ms(l), ++made;
  done.load_seen = made > 0 ? ms / static_cast<double>(made) / s.forecast.workers / s.now->rate.frame_ms() : 0;
  done.played = second.length(), done.dropped_said = std::lround(said.expected_drops), done.dropped_seen = seen.dropped;
  return done;
}

Result<int> try_out(const Situation& s, std::span<const Proposal> proposals, const Stores& stores, const std::function<bool()>& stopped) {
  constexpr double kMostSeconds = 4;
  const Stopwatch watch;
  int tried = 0;
  std::optional<Hush> hush;
  for (const Proposal& p : proposals) {
    if (stopped() || watch.ms() > kMostSeconds * 1000) break;
    const auto making = p.refused.empty() && p.kind->name() != std::string("seat") ? p.kind->making(p) : std::nullopt;
    if (!making) continue;
    PrerenderOptions options = stores.prerender_options({}, *s.timeline);
    options.form = p.subject.form;
    if (is_sampled(s, *making, options)) continue;
    if (!hush) hush.emplace();
    const auto any = sample_making(s, *making, options, cache_folder(), stopped);
    if (!any) return std::unexpected(any.error());
    tried += *any;
  }
  if (tried > 0)
    if (auto saved = stores.notebook->save(); !saved) return std::unexpected(saved.error());
  return tried;
}

std::vector<Proposal> copies_for(const Situation& s, const std::string& source) {
  std::vector<Proposal> all;
  for (const std::string& id : {"mezzanine:" + source, "proxy:" + source + ":2"})
    if (auto p = proposal_of(s, id)) {
      if (p->refused.empty()) p->drops_saved = drops_saved(s, *p);
      all.push_back(std::move(*p));
    }
  return all;
}

Result<TimelinePtr> with_automatic_scale(const Situation& s, int limit, const std::string& who) {
  TimelinePtr now = s.timeline;
  bool any = false;
  for (const Span& span : s.now->spans) {
    if (span.verdict == Verdict::holds || !is_of_speed(span.verdict)) continue;
    for (int size = 2; size <= limit; size *= 2) {
      const auto p = proposal_of(s, fmt::format("scale:{}:{}-{}", size, span.in, span.out));
      const auto cut = p ? p : [&]() -> std::optional<Proposal> {
        for (Proposal& each : remedy_kind("scale")->propose(s, {span.in, span.out}))
          if (each.subject.size == size && each.at.in <= span.in && each.at.out >= span.out && each.id.find('-') != std::string::npos) {
            each.kind = remedy_kind("scale");
            return each;
          }
        return std::nullopt;
      }();
      if (!cut || s.truth(cut->at) > cut->serves) continue;
      const Supposed then = cut->kind->suppose(s, *cut);
      const Forecast f = forecast(*then.program, *s.notebook, then.route, s.now->range, s.forecast);
      const bool last = size * 2 > limit;
      if (f.over(cut->at).verdict != Verdict::holds && !last) continue;
      Slip slip = *cut->kind->slip(*cut);
      slip.who = who, slip.why = "as high as it holds";
      if (const TimelinePtr next = with_slip(*now, slip, now_utc())) now = next, any = true;
      break;
    }
  }
  if (!any) return bad_input("there is no span that a lower scale would help", s.timeline->name, "Everything holds, or is judged for more than that.");
  return now;
}

Json to_json(const Proposal& p, const std::optional<RemedyFidelity>& f) {
  const bool looked = f && f->frames > 0;
  return {{"id", p.id},
          {"kind", p.kind->name()},
          {"in", p.at.in},
          {"out", p.at.out},
          {"segments", p.segments},
          {"sentence", p.sentence},
          {"seconds", p.quote.known ? Json(p.quote.seconds) : Json()},
          {"modelled_seconds", p.quote.known ? Json(p.quote.modelled_seconds) : Json()},
          {"bytes", p.quote.bytes},
          {"volume", p.quote.bytes > 0 ? p.quote.volume : ""},
          {"read_mb_s", p.quote.read_mb_s},
          {"drops_saved", p.refused.empty() ? Json(p.drops_saved) : Json()},
          {"hides", p.hides},
          {"serves", truth_name(p.serves)},
          {"psnr_db_worst", looked ? Json(f->psnr_db_worst) : Json()},
          {"ssim_worst", looked ? Json(f->ssim_worst) : Json()},
          {"refused", p.refused.empty() ? Json() : Json(p.refused)}};
}

Json to_json(const Slip& s, const Timeline& t) {
  return {{"id", s.id}, {"kind", s.kind}, {"text", slip_text(t, s)}, {"segment", s.segment}, {"effect", s.effect}, {"subject", s.subject},
          {"size", s.size}, {"in", s.in}, {"out", s.out}, {"opened", s.opened}, {"lifted", s.lifted}, {"who", s.who}, {"why", s.why}, {"until", s.until}};
}

fs::path mirrored(const fs::path& root, const fs::path& original, Form form) {
  fs::path to = root / original.lexically_normal().relative_path();
  return to.replace_extension(form_extension(form));
}

Result<std::vector<ProxyFile>> write_proxies(const View& view, const fs::path& root, int size, Form preferred,
                                             const std::function<bool(const std::string&, double)>& progress) {
  std::vector<ProxyFile> all;
  const auto sources = sources_in(*view.delivered, {0, view.delivered->duration()});
  for (const CompiledSegmentPtr& c : sources) {
    const CopyForm as = copy_form(c->media, size, preferred);
    ProxyFile file{c->segment->ref, c->path, {}, as.refused};
    if (is_sequence(c->path)) file.trouble = "it is a sequence of pictures, whose copies cannot mirror it.";
    const std::string name = fs::path(c->path).filename().string();
    if (!file.trouble.empty()) {
      all.push_back(file);
      continue;
    }
    auto reader = FrameReader::open(c->path, 2);
    if (!reader) return std::unexpected(reader.error());
    auto picture = (*reader)->read(0);
    if (!picture) return std::unexpected(picture.error());
    const fs::path to = mirrored(root, c->path, as.form);
    file.to = to.string();
    std::error_code e;
    if (fs::exists(to, e)) {
      const auto info = probe(to.string());
      if (!info || info->frames != c->media.frames)
        return bad_input("a file is there that is no copy of " + c->path, to.string(), "Name another root, or move that file away.");
      all.push_back(file);
      continue;
    }
    fs::create_directories(to.parent_path(), e);
    const fs::path temporary = to.string() + ".writing" + to.extension().string();
    auto writer = MovieWriter::create_like(**picture, temporary.string(), as.form, as.width, as.height, c->media.rate, size);
    if (!writer) return std::unexpected(writer.error());
    for (Frames n = 0; n < c->media.frames; ++n) {
      auto coded = c->joins_fields ? (*reader)->take_progressive(n) : (*reader)->take(n);
      auto frame = coded ? (*coded)->get() : Result<FramePtr>(std::unexpected(coded.error()));
      const auto written = frame ? (*writer)->write(**frame) : Result<void>(std::unexpected(frame.error()));
      const bool go_on = !progress || progress(name, static_cast<double>(n) / static_cast<double>(c->media.frames));
      if (!written || !go_on) {
        writer->reset();
        fs::remove(temporary, e);
        if (!written) return std::unexpected(written.error());
        return environment("stopped", to.string(), "The copies before it are whole.");
      }
    }
    if (auto r = (*writer)->finish(); !r) return std::unexpected(r.error());
    if (auto r = sync_and_rename(temporary, to); !r) return std::unexpected(r.error());
    all.push_back(file);
  }
  return all;
}

}  // namespace gc
