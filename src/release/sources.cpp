#include "release/sources.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

#include "release/verification.h"
#include "remedy/pricing.h"

namespace gc {
namespace {

constexpr const char* kPictures[] = {"dpx", "tiff", "png", "exr"};

bool is_picture_form(const std::string& id) { return std::ranges::find(kPictures, id) != std::end(kPictures); }

bool takes_lossless(Form to) { return !form_has_alpha(to) && to != Form::ffv1_444 && to != Form::vc3_444; }

void add(std::vector<FrameRange>& ranges, Frames f) {
  if (!ranges.empty() && ranges.back().out == f) ++ranges.back().out;
  else ranges.push_back({f, f + 1});
}

/// The rendition of a frame that could be of use; none where pictures are drawn upon or written one by one.
std::optional<SealHit> rendition_of(const Program& program, const Shelf* shelf, const DeliveryOptions& o, Frames f) {
  if (!shelf || burns(o) || is_picture_form(o.form)) return std::nullopt;
  auto hit = shelf->find(program.fingerprint(f));
  const Timeline& t = *program.timeline();
  return hit && (hit->width == 0 || (hit->width == t.width && hit->height == t.height)) ? hit : std::nullopt;
}

}  // namespace

bool loses_nothing(Form rendition) {
  return rendition == Form::v210 || rendition == Form::ffv1 || rendition == Form::ffv1_444 || rendition == Form::ffv1_alpha;
}

Result<Form> form_of(const DeliveryOptions& o, const Timeline& t) {
  if (is_picture_form(o.form)) return Form::v210;  // nothing is asked of it: a picture is a file by itself
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

DeliverySources sources_of(const Program& program, const Shelf* shelf, const DeliveryOptions& o, Form form, const NearFiles& near) {
  if (shelf) shelf->settled();
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

NearFiles near_files(const Program& program, const Shelf* shelf, const DeliveryOptions& o, Form form, const std::function<bool(const DeliveryProgress&)>& progress) {
  if (shelf) shelf->settled();
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

std::vector<FrameRange> made_of(const DeliverySources& s) {
  std::vector<FrameRange> all = s.live;
  all.insert(all.end(), s.decoded.begin(), s.decoded.end());
  all.insert(all.end(), s.near.begin(), s.near.end());
  std::ranges::sort(all, {}, &FrameRange::in);
  return all;
}

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
  // Said before anything is rendered for it.
  if (!q.sequence)
    if (auto r = container_takes(o.to.string(), *form); !r) return std::unexpected(r.error());
  const ProgramPtr program = program_rendered(delivered, o.device, media);
  q.sources = sources_of(*program, shelf, o, *form, near);
  const Pricing pricing(program, notebook, {0, program->duration()}, forecast);
  const std::vector<FrameRange> made = made_of(q.sources);
  const auto frames = static_cast<std::uint64_t>(o.range.length());
  if (q.sequence) {
    q.modelled_seconds = pricing.frames_as(made, [&](const Hash128& content) { return picture_cost(notebook, o.form, t.width, t.height, content).times(pricing.base()); });
    q.seconds = q.modelled_seconds * notebook.price_factor();
    q.bytes = pricing.bytes_as({o.range}, [&](const Hash128& content) { return picture_bytes(notebook, o.form, t.width, t.height, content); });
    q.needed_bytes = q.bytes + q.bytes / 10;
    q.known = picture_cost(notebook, o.form, t.width, t.height).wall_ms > 0;
  } else {
    const std::uint64_t each = form_frame_bytes(*form, t.width, t.height);
    q.bytes = pricing.bytes({o.range}, *form);
    const double pieces = std::ceil(static_cast<double>(o.range.length()) / static_cast<double>(kLongPiece));
    if (q.shared) q.modelled_seconds = pricing.frames(made, *form);
    else
      q.modelled_seconds = pricing.frames_as(made, [&](const Hash128& content) { return pricing.encode(*form, content); }) +
                           pieces * piece_ms(notebook, *form, t.width, t.height, static_cast<double>(q.bytes) / pieces, pricing.base()) / 1000;
    // Putting together reads and writes every byte once.
    constexpr double kJoinBytesASecond = 300e6;
    q.seconds = q.modelled_seconds * notebook.price_factor() + static_cast<double>(q.bytes) / kJoinBytesASecond;
    q.known = encode_cost(notebook, t, *form, t.width, t.height).wall_ms > 0;
    // Held for the worst: what a form makes of pictures that nobody has encoded yet is not known.
    q.needed_bytes = each * (frames + static_cast<std::uint64_t>(DeliverySources::frames(made)));
  }
  std::error_code e;
  fs::path folder = o.to.parent_path();
  while (!folder.empty() && !fs::exists(folder, e) && folder != folder.parent_path()) folder = folder.parent_path();
  const auto space = fs::space(folder.empty() ? fs::current_path() : folder, e);
  q.free_bytes = e ? std::numeric_limits<std::uint64_t>::max() : space.available;
  return q;
}

Result<DeliveryQuote> delivery_quote(const ProgramPtr& delivered, const Shelf* shelf, const Notebook& notebook, MediaCatalog& media,
                                     const DeliveryOptions& o, const ForecastOptions& forecast) {
  return quote_with({}, delivered, shelf, notebook, media, o, forecast);
}

}  // namespace gc
