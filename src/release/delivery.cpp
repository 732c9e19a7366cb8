#include "release/delivery.h"

#include <fmt/format.h>

#include <cmath>
#include <map>
#include <set>

#include "base/clock.h"
#include "base/log.h"
#include "base/timecode.h"
#include "effects/registry.h"
#include "media/picture_file.h"
#include "media/sound.h"
#include "queue/flat_out.h"
#include "queue/render_into.h"
#include "release/verification.h"
#include "remedy/pricing.h"

namespace gc {
namespace {

constexpr const char* kPictures[] = {"dpx", "tiff", "png", "exr"};

bool is_picture_form(const std::string& id) { return std::ranges::find(kPictures, id) != std::end(kPictures); }

/// Review copies build pictures on others; their pieces are encoded at one go and cannot be shared.
bool long_gop(Form form) { return form == Form::h264_long_gop || form == Form::h265_long_gop; }
constexpr Frames kLongPiece = 96;

/// Renditions whose pictures have every code that a 10-bit 4:2:2 form has.
bool loses_nothing(Form rendition) {
  return rendition == Form::v210 || rendition == Form::ffv1 || rendition == Form::ffv1_444 || rendition == Form::ffv1_alpha;
}
bool takes_lossless(Form to) { return !form_has_alpha(to) && to != Form::ffv1_444 && to != Form::vc3_444; }

/// Files of renditions that lose a little, and not more than a person allowed.
using NearFiles = std::set<std::string>;

/// Of a shelf only finished frames that lose nothing, or little enough.
class Reusable : public SealLookup {
 public:
  Reusable(const Shelf* shelf, const NearFiles& near) : shelf_(shelf), near_(near) {}
  std::optional<SealHit> find(const Hash128& name) const override {
    auto hit = shelf_ ? shelf_->find(name) : std::nullopt;
    return hit && (loses_nothing(hit->form) || near_.contains(hit->path)) ? hit : std::nullopt;
  }
  void report_broken(const SealHit& hit) const override { shelf_->report_broken(hit); }

 private:
  const Shelf* shelf_;
  const NearFiles& near_;
};

void add(std::vector<FrameRange>& ranges, Frames f) {
  if (!ranges.empty() && ranges.back().out == f) ++ranges.back().out;
  else ranges.push_back({f, f + 1});
}

Result<Form> form_of(const DeliveryOptions& o, const Timeline& t) {
  if (is_picture_form(o.form)) return Form::v210;  // only its size is asked for
  const auto form = form_named(o.form);
  if (!form) {
    std::string known;
    for (const std::string& id : delivery_forms()) known += (known.empty() ? "" : ", ") + id;
    return usage(fmt::format("there is no form '{}'", o.form), "Give one of " + known + ".");
  }
  if (!form_takes(*form, t.width, t.height))
    return bad_input(fmt::format("{} does not keep pictures of {} × {}", form_name(*form), t.width, t.height), t.name, "Deliver as ffv1-444, or as pictures.");
  return *form;
}

bool burns(const DeliveryOptions& o) { return o.burn_timecode || !o.burn_text.empty(); }

/// The rendition of a frame that could be of use; none where pictures are drawn upon or written one by one.
std::optional<SealHit> rendition_of(const Program& program, const Shelf* shelf, const DeliveryOptions& o, Frames f) {
  if (!shelf || burns(o) || is_picture_form(o.form)) return std::nullopt;
  auto hit = shelf->find(program.fingerprint(f));
  const Timeline& t = *program.timeline();
  return hit && (hit->width == 0 || (hit->width == t.width && hit->height == t.height)) ? hit : std::nullopt;
}

DeliverySources sources_of(const Program& program, const Shelf* shelf, const DeliveryOptions& o, Form form, const NearFiles& near) {
  DeliverySources s;
  for (Frames f = o.range.in; f < o.range.out; ++f) {
    const auto hit = rendition_of(program, shelf, o, f);
    if (hit && hit->form == form && !long_gop(form)) add(s.copied, f);
    else if (hit && loses_nothing(hit->form) && takes_lossless(form)) add(s.decoded, f);
    else if (hit && near.contains(hit->path)) add(s.near, f);
    else add(s.live, f);
  }
  return s;
}

/// Pieces that lose something: of each the frame in its middle is held against the live one.
NearFiles near_files(const Program& program, const Shelf* shelf, const DeliveryOptions& o, Form form, const std::function<bool(const DeliveryProgress&)>& progress) {
  NearFiles near;
  if (o.reuse_db <= 0 || !takes_lossless(form)) return near;
  std::map<std::string, std::vector<std::pair<Frames, int>>> pieces;  ///< by file: frames, and where they lie in it
  for (Frames f = o.range.in; f < o.range.out; ++f)
    if (const auto hit = rendition_of(program, shelf, o, f); hit && (hit->form != form || long_gop(form)) && !loses_nothing(hit->form))
      pieces[hit->path].emplace_back(f, static_cast<int>(hit->index));
  Decoders decoders;
  StageLog log;
  Frames looked_at = 0;
  for (const auto& [file, frames] : pieces) {
    if (progress && !progress({looked_at, o.range.length(), "Comparing", 0})) break;
    looked_at += static_cast<Frames>(frames.size());
    const auto [frame, index] = frames[frames.size() / 2];
    const auto reader = FrameReader::open(file);
    const auto picture = reader ? (*reader)->read(index) : std::unexpected(reader.error());
    const auto db = picture ? psnr_to_live(program, frame, **picture, decoders, log) : std::unexpected(picture.error());
    if (db && *db >= o.reuse_db) near.insert(file);
  }
  return near;
}

/// Everything that is encoded for it, in order.
std::vector<FrameRange> made_of(const DeliverySources& s) {
  std::vector<FrameRange> all = s.live;
  all.insert(all.end(), s.decoded.begin(), s.decoded.end());
  all.insert(all.end(), s.near.begin(), s.near.end());
  std::ranges::sort(all, {}, &FrameRange::in);
  return all;
}

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
                 {"near", ranges(report_.sources.near)}, {"reuse_db", o_.reuse_db > 0 ? Json(o_.reuse_db) : Json()},
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

Frames DeliverySources::frames(const std::vector<FrameRange>& ranges) {
  Frames n = 0;
  for (const FrameRange& r : ranges) n += r.length();
  return n;
}

std::vector<std::string> delivery_forms() {
  std::vector<std::string> all;
  for (const Form f : {Form::rdd36, Form::rdd36_alpha, Form::vc3_sq, Form::vc3_hq, Form::vc3_hqx, Form::vc3_444, Form::ffv1, Form::ffv1_444, Form::v210,
                       Form::h264_long_gop, Form::h265_long_gop})
    all.emplace_back(form_id(f));
  all.insert(all.end(), std::begin(kPictures), std::end(kPictures));
  return all;
}

fs::path delivery_note(const fs::path& file) {
  std::string name = file.filename().string();
  std::erase(name, '%');
  return file.parent_path() / (name + ".delivery.json");
}

namespace {

Result<DeliveryQuote> quote_with(const NearFiles& near, const ProgramPtr& delivered, const Shelf* shelf, const Notebook& notebook, MediaCatalog& media,
                                 const DeliveryOptions& o, const ForecastOptions& forecast) {
  const Timeline& t = *delivered->timeline();
  const auto form = form_of(o, t);
  if (!form) return std::unexpected(form.error());
  if (o.range.length() <= 0) return bad_input("there are no frames to deliver", t.name, "Give a range that holds some.");
  DeliveryQuote q;
  q.form = *form, q.sequence = is_picture_form(o.form);
  q.shared = !q.sequence && !long_gop(q.form) && !burns(o);
  if (q.sequence) {
    const std::string name = o.to.filename().string();
    const std::size_t at = name.find('%');
    std::size_t end = at == std::string::npos ? at : at + 1;
    while (end < name.size() && name[end] >= '0' && name[end] <= '9') ++end;
    if (at == std::string::npos || end >= name.size() || name[end] != 'd' || name.find('%', end) != std::string::npos)
      return usage("a sequence needs a name with a number in it", "Give --to out/kiln.%06d." + o.form + ".");
  }
  const ProgramPtr program = program_rendered(delivered, o.device, media);
  q.sources = sources_of(*program, shelf, o, *form, near);
  const std::uint64_t each = form_frame_bytes(*form, t.width, t.height);
  const Pricing pricing(program, notebook, {0, program->duration()}, forecast);
  const std::vector<FrameRange> made = made_of(q.sources);
  q.modelled_seconds = pricing.frames(made, *form);
  // Putting together reads and writes every byte once.
  constexpr double kJoinBytesASecond = 300e6;
  q.bytes = each * static_cast<std::uint64_t>(o.range.length());
  q.seconds = q.modelled_seconds * notebook.price_factor() + static_cast<double>(q.bytes) / kJoinBytesASecond;
  q.known = encode_ms(notebook, t, *form, t.width, t.height) > 0;
  q.needed_bytes = q.bytes + (q.sequence ? 0 : each * static_cast<std::uint64_t>(DeliverySources::frames(made)));
  std::error_code e;
  fs::path folder = o.to.parent_path();
  while (!folder.empty() && !fs::exists(folder, e) && folder != folder.parent_path()) folder = folder.parent_path();
  const auto space = fs::space(folder.empty() ? fs::current_path() : folder, e);
  q.free_bytes = e ? std::numeric_limits<std::uint64_t>::max() : space.available;
  return q;
}

}  // namespace

Result<DeliveryQuote> delivery_quote(const ProgramPtr& delivered, const Shelf* shelf, const Notebook& notebook, MediaCatalog& media,
                                     const DeliveryOptions& o, const ForecastOptions& forecast) {
  return quote_with({}, delivered, shelf, notebook, media, o, forecast);
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
