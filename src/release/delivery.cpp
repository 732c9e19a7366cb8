#include "release/delivery.h"

#include <fmt/format.h>

#include <cmath>
#include <set>

#include "base/clock.h"
#include "base/log.h"
#include "base/timecode.h"
#include "effects/registry.h"
#include "media/picture_file.h"
#include "media/sound.h"
#include "queue/flat_out.h"
#include "queue/render_into.h"
#include "release/sources.h"
#include "release/verification.h"

namespace gc {
namespace {

/// Text over the lower edge of a picture.
void burn_in(Image& image, const std::string& text) {
  const EffectType& title = title_generator();
  const auto made = title.make({{"text", text}, {"size", 0.035}, {"x", 0.5}, {"y", 0.955}}, image.width(), image.height());
  Image over(image.width(), image.height());
  made->apply(over, FrameContext{});
  float* to = image.data();
  const float* from = over.data();
  for (std::size_t i = 0; i < image.floats(); i += 4)
    for (std::size_t k = 0; k < 3; ++k) to[i + k] = from[i + k] + to[i + k] * (1 - from[i + 3]);
}

class Delivery {
 public:
  Delivery(ProgramPtr program, const Shelf* shelf, const DeliveryOptions& o, DeliveryQuote quote,
           NearFiles near, const std::function<bool(const DeliveryProgress&)>& progress)
      : program_(std::move(program)), t_(*program_->timeline()), shelf_(shelf), o_(o), quote_(std::move(quote)), near_(std::move(near)), progress_(progress) {}

  Result<DeliveryReport> run() {
    report_.said_seconds = quote_.seconds, report_.sources = quote_.sources, report_.file = o_.to;
    if (auto r = may_write(); !r) return std::unexpected(r.error());
    const auto done = quote_.sequence ? pictures() : movie();
    if (!done) return std::unexpected(done.error());
    std::error_code e;
    if (o_.replace && fs::exists(delivery_note(o_.to), e)) fs::remove(manifest_of(o_.to), e);  // of the earlier delivery
    report_.frames = o_.range.length(), report_.seconds = watch_.ms() / 1000;
    for (const FrameRange& r : report_.sources.near)
      report_.remarks.push_back(fmt::format("{} to {} is from renditions that lose a little: {:.0f} dB at least, where they were compared.", timecode_at(t_, r.in),
                                            timecode_at(t_, r.out - 1), o_.reuse_db));
    if (auto r = note(); !r) return std::unexpected(r.error());
    return report_;
  }

 private:
  fs::path parts() const { return o_.to.parent_path() / ("." + o_.to.filename().string() + ".parts"); }

  static constexpr const char* kOurs = ".glass-clock-delivery";  ///< in the folder of parts, which goes when all is done

  std::unexpected<Error> taken(const fs::path& there) const {
    std::error_code e;
    const bool ours = fs::exists(delivery_note(o_.to), e);
    return bad_input(ours ? "an earlier delivery lies there" : "a file that this program did not deliver lies there", there.string(),
                     ours ? "Give --replace, or another name." : "Give another name.");
  }

  Result<void> may_write() const {
    std::error_code e;
    const bool replaced = o_.replace && fs::exists(delivery_note(o_.to), e);
    if (!quote_.sequence && fs::exists(o_.to, e) && !replaced) return taken(o_.to);
    for (Frames f = o_.range.in; quote_.sequence && f < o_.range.out; ++f)
      if (fs::exists(picture_file(f), e) && !fs::exists(begun(f), e) && !replaced) return taken(picture_file(f));
    if (fs::exists(parts(), e) && !fs::exists(parts() / kOurs, e) && !fs::exists(being_made(), e))
      return bad_input("a folder that this program did not make lies where the parts of the delivery go", parts().string(), "Give the file another name.");
    fs::create_directories(o_.to.parent_path(), e);
    if (!fs::is_directory(o_.to.parent_path(), e))
      return environment("the folder cannot be made", o_.to.parent_path().string(), "Check that the volume is mounted and writable.");
    if (quote_.needed_bytes > quote_.free_bytes)
      return environment(fmt::format("the volume has {:.1f} GB free, and the delivery needs about {:.1f} GB while it is made",
                                     static_cast<double>(quote_.free_bytes) / 1e9, static_cast<double>(quote_.needed_bytes) / 1e9),
                         o_.to.parent_path().string(), "Free some space, or deliver to another volume.");
    return {};
  }

  Result<void> make_parts() const {
    std::error_code e;
    if (fs::exists(parts() / kOurs, e)) {
      fs::remove(being_made(), e);
      return {};
    }
    // Killed between the two, the folder would be nobody's: what says that it is ours stands beside it first.
    fs::create_directories(parts().parent_path(), e);
    if (auto r = write_file_atomic(being_made(), ""); !r) return r;
    fs::create_directories(parts(), e);
    if (auto r = write_file_atomic(parts() / kOurs, ""); !r) return r;
    fs::remove(being_made(), e);
    return {};
  }
  fs::path being_made() const { return parts().string() + ".begun"; }
  /// Stands there from before a picture is written on: that picture is this program's.
  fs::path begun(Frames f) const { return parts() / fmt::format("{:08}.begun", f); }

  bool tell(const char* what, Frames done, double left) {
    return !progress_ || progress_({done, o_.range.length(), what, left});
  }
  static std::unexpected<Error> stopped(const fs::path& at) {
    return environment("stopped", at.string(), "What is rendered is kept; start the delivery again to go on.");
  }

  Result<void> movie() {
    std::error_code e;
    if (auto r = make_parts(); !r) return r;
    // Twice more when pieces turn out damaged: they are made anew.
    for (int attempt = 0;; ++attempt) {
      auto list = long_gop(quote_.form) || burns(o_) ? encoded_pieces() : shelved_pieces();
      if (!list) return std::unexpected(list.error());
      const fs::path temporary = parts() / ("whole" + o_.to.extension().string());
      fs::remove(temporary, e);
      JoinOptions join;
      join.rate = t_.rate, join.timecode = timecode_at(t_, o_.range.in), join.title = t_.name;
      const ColourCodes colours = colour_codes(t_.display_space);
      join.primaries = colours.primaries, join.transfer = colours.transfer;
      report_.remarks.clear();
      if (o_.sound) join.sound = mixed_sound(t_, o_.range, report_.remarks);
      const auto joined = join_movies(*list, temporary.string(), join, [&](Frames n) { return tell("Putting together", n, 0); });
      if (!joined) {
        fs::remove(temporary, e);
        return std::unexpected(joined.error());
      }
      if (joined->broken_part >= 0) {
        fs::remove(temporary, e);
        const std::string broken = (*list)[static_cast<std::size_t>(joined->broken_part)].file;
        if (attempt == 2) return environment("a piece is damaged again and again", broken, "Check the drive, then start the delivery again.");
        set_aside(broken);
        continue;
      }
      report_.bytes = fs::file_size(temporary, e);
      if (auto r = sync_and_rename(temporary, o_.to); !r) return r;
      fs::remove_all(parts(), e);  // made by this program for this delivery alone
      return {};
    }
  }

  /// A damaged piece answers nothing any more.
  void set_aside(const std::string& file) {
    std::error_code e;
    for (const FrameRange& r : quote_.sources.copied)
      for (Frames f = r.in; f < r.out; ++f)
        if (const auto hit = shelf_ ? shelf_->find(program_->fingerprint(f)) : std::nullopt; hit && hit->path == file) shelf_->report_broken(*hit);
    if (fs::path(file).parent_path() == parts()) fs::remove(file, e);
    else if (own_)
      for (const Chunk& c : own_->pieces())
        if (file.ends_with(c.file))
          if (auto r = own_->clean({Selection::What::chosen, {}, 0, {c.file}}); !r) spdlog::warn("{}", r.error().text());
    quote_.sources = report_.sources = sources_of(*program_, shelf_, o_, quote_.form, near_);
  }

  /// What is not rendered yet goes onto a shelf of the delivery's own.
  Result<std::vector<JoinPart>> shelved_pieces() {
    auto own = Shelf::open(parts() / "shelf");
    if (!own) return std::unexpected(own.error());
    own_ = *own;
    PrerenderOptions options;
    options.workers = o_.workers, options.device = o_.device, options.form = quote_.form, options.notebook = o_.notebook;
    const Reusable rendered(shelf_, near_);
    const Frames copied = DeliverySources::frames(quote_.sources.copied);
    const auto made = render_into(program_, *own_, made_of(quote_.sources), options, &rendered,
                                  [&](const PrerenderProgress& p) { return tell("Rendering", copied + p.done, p.seconds_left); });
    if (!made) return std::unexpected(made.error());
    if (made->cancelled) return stopped(o_.to);
    std::vector<JoinPart> list;
    for (Frames f = o_.range.in; f < o_.range.out; ++f) {
      const Hash128 name = program_->fingerprint(f);
      auto hit = shelf_ ? shelf_->find(name) : std::nullopt;
      if (!hit || hit->form != quote_.form) hit = own_->find(name);
      if (!hit) return environment(fmt::format("frame {} was rendered and is not there", f), parts().string(), "Start the delivery again.");
      if (!list.empty() && list.back().file == hit->path && list.back().first + list.back().count == hit->index) {
        ++list.back().count, list.back().sums.push_back(hit->checksum);
        continue;
      }
      list.push_back({hit->path, hit->index, 1, {hit->checksum}});
    }
    return list;
  }

  /// What stands for a piece's content, so that one of an earlier attempt is used only when it is the same.
  std::string piece_name(FrameRange r) const {
    Hasher h;
    h.add("delivery 1").add(o_.form).add(std::int64_t{o_.burn_timecode}).add(o_.burn_text);
    for (Frames f = r.in; f < r.out; ++f) h.add(program_->fingerprint(f));
    return fmt::format("{:08}-{}", r.in, h.done().hex());
  }

  Image finished(FrameResult& frame) const {
    Image image = std::move(frame.image);
    std::string text = o_.burn_timecode ? timecode_at(t_, frame.frame) : "";
    if (!o_.burn_text.empty()) text += (text.empty() ? "" : "   ") + o_.burn_text;
    if (!text.empty()) burn_in(image, text);
    return image;
  }
  Result<void> whole(const FrameResult& frame) const {
    if (frame.failed) return std::unexpected(*frame.failed);
    if (frame.offline || frame.unseen)
      return bad_input(fmt::format("{} has no picture: {}", timecode_at(t_, frame.frame), frame.trouble.empty() ? "media are offline" : frame.trouble.front()),
                       t_.name, "Bring the media back; what is rendered is kept.");
    return {};
  }

  /// Pieces that are encoded each at one go.
  Result<std::vector<JoinPart>> encoded_pieces() {
    std::vector<JoinPart> list;
    std::vector<FrameRange> todo;
    std::vector<Frames> frames;
    std::error_code e;
    for (Frames at = o_.range.in; at < o_.range.out; at += kLongPiece) {
      const FrameRange r{at, std::min(at + kLongPiece, o_.range.out)};
      const fs::path file = parts() / (piece_name(r) + form_extension(quote_.form));
      list.push_back({file.string(), 0, r.length(), {}});
      if (fs::exists(file, e)) continue;
      todo.push_back(r);
      for (Frames f = r.in; f < r.out; ++f) frames.push_back(f);
    }
    std::size_t piece = 0;
    Frames in_piece = 0, done = 0;
    std::unique_ptr<MovieWriter> writer;
    const Frames before = o_.range.length() - static_cast<Frames>(frames.size());
    const Stopwatch watch;
    const Reusable rendered(shelf_, near_);
    const auto all = make_frames(program_, frames, {o_.workers, true, o_.notebook, burns(o_) ? nullptr : &rendered}, [&](FrameResult& frame) -> Result<bool> {
      if (auto r = whole(frame); !r) return std::unexpected(r.error());
      const fs::path file = parts() / (piece_name(todo[piece]) + form_extension(quote_.form)), temporary = file.string() + ".writing" + form_extension(quote_.form);
      if (!writer) {
        auto made = MovieWriter::create(temporary.string(), quote_.form, t_.width, t_.height, t_.rate, colour_codes(t_.display_space));
        if (!made) return std::unexpected(made.error());
        writer = std::move(*made);
      }
      if (auto r = writer->write(finished(frame)); !r) return std::unexpected(r.error());
      ++done;
      if (++in_piece == todo[piece].length()) {
        if (auto r = writer->finish(); !r) return std::unexpected(r.error());
        writer.reset();
        if (auto r = sync_and_rename(temporary, file); !r) return std::unexpected(r.error());
        in_piece = 0, ++piece;
      }
      const double each = watch.ms() / 1000 / static_cast<double>(done);
      return tell("Rendering", before + done, each * static_cast<double>(static_cast<Frames>(frames.size()) - done));
    });
    if (!all) return std::unexpected(all.error());
    if (!*all) return stopped(o_.to);
    return list;
  }

  fs::path picture_file(Frames f) const {
    // The name has exactly one %0Nd: checked when the quote was made.
    const std::string name = o_.to.filename().string();
    const std::size_t at = name.find('%');
    const std::size_t end = name.find('d', at);
    const int digits = std::max(1, std::atoi(name.substr(at + 1, end - at - 1).c_str()));
    return o_.to.parent_path() / (name.substr(0, at) + fmt::format("{:0{}}", f - o_.range.in, digits) + name.substr(end + 1));
  }

  /// Each picture is whole or not there; a note says which were made for what, so that the rest is made later.
  Result<void> pictures() {
    std::error_code e;
    if (auto r = make_parts(); !r) return r;
    std::vector<Frames> frames;
    for (Frames f = o_.range.in; f < o_.range.out; ++f)
      if (!fs::exists(parts() / piece_name({f, f + 1}), e) || !fs::exists(picture_file(f), e)) frames.push_back(f);
    const Frames before = o_.range.length() - static_cast<Frames>(frames.size());
    Frames done = 0;
    const Stopwatch watch;
    const auto all = make_frames(program_, frames, {o_.workers, true, o_.notebook, nullptr}, [&](FrameResult& frame) -> Result<bool> {
      if (auto r = whole(frame); !r) return std::unexpected(r.error());
      if (auto r = write_file_atomic(begun(frame.frame), ""); !r) return std::unexpected(r.error());
      if (auto r = write_picture(finished(frame), picture_file(frame.frame)); !r) return std::unexpected(r.error());
      if (auto r = write_file_atomic(parts() / piece_name({frame.frame, frame.frame + 1}), ""); !r) return std::unexpected(r.error());
      ++done;
      const double each = watch.ms() / 1000 / static_cast<double>(done);
      return tell("Rendering", before + done, each * static_cast<double>(static_cast<Frames>(frames.size()) - done));
    });
    if (!all) return std::unexpected(all.error());
    if (!*all) return stopped(o_.to);
    for (Frames f = o_.range.in; f < o_.range.out; ++f) report_.bytes += fs::file_size(picture_file(f), e);
    if (o_.sound && !mixed_sound(t_, o_.range, report_.remarks).empty()) report_.remarks.emplace_back("A sequence of pictures has no sound.");
    fs::remove_all(parts(), e);
    return {};
  }

  Result<void> note() const {
    const auto ranges = [](const std::vector<FrameRange>& all) {
      Json list = Json::array();
      for (const FrameRange& r : all) list.push_back({r.in, r.out});
      return list;
    };
    const Json j{{"glass_clock", "delivery"}, {"version", 1}, {"timeline", t_.name}, {"form", o_.form}, {"made", now_utc()},
                 {"in", o_.range.in}, {"out", o_.range.out}, {"bytes", report_.bytes}, {"renderer", kRendererVersion},
                 {"copied", ranges(report_.sources.copied)}, {"decoded", ranges(report_.sources.decoded)}, {"live", ranges(report_.sources.live)},
                 {"near", ranges(report_.sources.near)}, {"reuse_db", o_.reuse_db > 0 ? Json(o_.reuse_db) : Json()}, {"order", o_.order},
                 {"remarks", report_.remarks}};
    return write_file_atomic(delivery_note(o_.to), j.dump(1) + "\n");
  }

  ProgramPtr program_;
  const Timeline& t_;
  const Shelf* shelf_;
  const DeliveryOptions& o_;
  DeliveryQuote quote_;
  NearFiles near_;
  const std::function<bool(const DeliveryProgress&)>& progress_;
  std::shared_ptr<Shelf> own_;
  DeliveryReport report_;
  Stopwatch watch_;
};

}  // namespace

fs::path delivery_note(const fs::path& file) {
  std::string name = file.filename().string();
  std::erase(name, '%');
  return file.parent_path() / (name + ".delivery.json");
}

Result<DeliveryReport> deliver(const ProgramPtr& delivered, const Shelf* shelf, const Notebook& notebook, MediaCatalog& media,
                               const DeliveryOptions& o, const ForecastOptions& forecast,
                               const std::function<bool(const DeliveryProgress&)>& progress) {
  const Gate gate = check_gate(*delivered, shelf);
  if (!gate.may_deliver()) return bad_input(gate.sentence(), delivered->timeline()->name, "`gclk gate` lists what has to be put right.");
  const auto form = form_of(o, *delivered->timeline());
  if (!form) return std::unexpected(form.error());
  const ProgramPtr program = program_rendered(delivered, o.device, media);
  NearFiles near = near_files(*program, shelf, o, *form, progress);
  auto quote = quote_with(near, delivered, shelf, notebook, media, o, forecast);
  if (!quote) return std::unexpected(quote.error());
  return Delivery(program, shelf, o, std::move(*quote), std::move(near), progress).run();
}

std::vector<float> mixed_sound(const Timeline& t, FrameRange range, std::vector<std::string>& remarks) {
  std::vector<float> mix;
  const double fps = t.rate.fps();
  std::set<std::string> told;
  const auto remark = [&](const std::string& text) {
    if (told.insert(text).second) remarks.push_back(text);
  };
  for (const TrackPtr& track : t.tracks) {
    if (track->video || !track->enabled) continue;
    Frames at = 0;
    for (const Item& item : track->items) {
      if (const auto* gap = std::get_if<Gap>(&item)) at += gap->duration;
      if (const auto* other = std::get_if<Opaque>(&item)) at += other->duration;
      const auto* s = std::get_if<SegmentPtr>(&item);
      if (!s) continue;
      const Segment& segment = **s;
      const FrameRange here{std::max(at, range.in), std::min(at + segment.duration, range.out)};
      const Frames skipped = here.in - at;
      at += segment.duration;
      if (here.length() <= 0 || !segment.enabled || segment.content != Content::source) continue;
      const auto source = t.sources.find(segment.ref);
      if (source == t.sources.end()) continue;
      if (segment.speed != Ratio{1, 1}) {
        remark(fmt::format("The sound of '{}' is retimed, which is not done; it is silent.", segment.name));
        continue;
      }
      const Rate rate = segment.source_rate.num > 0 ? segment.source_rate : source->second->rate.num > 0 ? source->second->rate : t.rate;
      const double from = static_cast<double>(segment.source_in) / rate.fps() + static_cast<double>(skipped) / fps;
      const auto sound = read_sound(source->second->path, from, static_cast<double>(here.length()) / fps);
      if (!sound) {
        remark(fmt::format("The sound of '{}' is missing: {}", segment.name, sound.error().what));
        continue;
      }
      if (mix.empty()) mix.assign(static_cast<std::size_t>(std::llround(static_cast<double>(range.length()) / fps * kSoundRate)) * kSoundChannels, 0.0f);
      const auto first = static_cast<std::size_t>(std::llround(static_cast<double>(here.in - range.in) / fps * kSoundRate)) * kSoundChannels;
      for (std::size_t i = 0; i < sound->size() && first + i < mix.size(); ++i) mix[first + i] += (*sound)[i];
    }
  }
  return mix;
}

}  // namespace gc
