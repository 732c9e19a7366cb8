#include "seat/profile.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace gc {
namespace {

std::unexpected<Error> bad(const std::string& where, const std::string& what) {
  return bad_input("is no usable seat profile: " + what, where,
                   "Ask for the profile again, or measure that seat anew.");
}

constexpr double kFast = 1e8;  // MB a second

/// A number of an object that must lie within [least, most] when it is there. `trouble` gets the first that does not.
struct Numbers {
  const Json& object;
  std::string& trouble;
  double get(const char* key, double fallback, double least, double most) {
    const auto it = object.is_object() ? object.find(key) : object.end();
    if (!object.is_object() || it == object.end()) return fallback;
    const double v = it->is_number() ? it->get<double>() : std::nan("");
    if (!(v >= least && v <= most)) {
      if (trouble.empty()) trouble = fmt::format("'{}' is {}, which is impossible", key, it->dump());
      return fallback;
    }
    return v;
  }
};

Json to_json(const VolumeSpeed& v, bool with_paths) {
  Json streams = Json::array();
  for (const StreamSpeed& s : v.streams) streams.push_back({{"streams", s.streams}, {"mb_s", s.mb_s}});
  Json j{{"label", v.label},
         {"type", v.type},
         {"file_system", v.file_system},
         {"bytes", v.bytes},
         {"free_bytes", v.free_bytes},
         {"write_mb_s", v.write_mb_s},
         {"read_mb_s", v.read_mb_s},
         {"read_again_mb_s", v.cached_read_mb_s},
         {"readers_at_once", streams},
         {"write_ms", {{"p50", v.write_ms_50}, {"p95", v.write_ms_95}, {"p99", v.write_ms_99}}},
         {"page_cache_kept_out", v.direct},
         {"notes", v.notes}};
  for (const FillSpeed& f : v.fills)
    j["by_fill"].push_back({{"full", f.full}, {"write_mb_s", f.write_mb_s}, {"read_mb_s", f.read_mb_s}});
  if (with_paths) j["folder"] = v.folder;
  return j;
}

Json to_json(const FormCost& f) {
  return {{"form", f.form},
          {"width", f.width},
          {"height", f.height},
          {"bits", f.bits},
          {"alpha", f.alpha},
          {"bytes", f.bytes},
          {"encode_ms", f.encode_ms},
          {"decode_ms", f.decode_ms},
          {"threads", f.threads},
          {"encode_fps", f.encode_fps},
          {"decode_fps", f.decode_fps},
          {"psnr_db", f.psnr_db},
          {"ssim", f.ssim}};
}

}  // namespace

const CostLaw* SeatProfile::law(const std::string& id) const {
  const auto it = laws.find(id);
  return it == laws.end() ? nullptr : &it->second;
}
const FormCost* SeatProfile::form(const std::string& wanted) const {
  const auto it =
      std::find_if(forms.begin(), forms.end(), [&](const FormCost& f) { return f.form == wanted; });
  return it == forms.end() ? nullptr : &*it;
}

Json to_json(const SeatProfile& p, bool with_paths) {
  Json j{{"glass_clock", "seat profile"},
         {"version", SeatProfile::kVersion},
         {"units",
          {{"*_mb_s", "10^6 bytes a second"},
           {"*_ms", "milliseconds"},
           {"*_bytes", "bytes"},
           {"places", "terms as named by the law"}}},
         {"name", p.name},
         {"made", p.made},
         {"invented", p.invented},
         {"machine",
          {{"processor", p.processor},
           {"processors", p.processors},
           {"cores", p.cores},
           {"memory_bytes", p.memory_bytes},
           {"memory_left_gb", p.memory_left_gb},
           {"last_level_cache_bytes", p.last_level_cache_bytes},
           {"screen_width", p.screen_width},
           {"screen_height", p.screen_height}}},
         {"background", {{"other_programs", p.others}, {"stolen", p.stolen}, {"shared_cores", p.shared}}},
         {"accelerator_trouble", p.accelerator_trouble},
         {"unknown", p.unknown},
         {"eras", p.eras}};
  if (p.memory)
    j["memory"] = {{"copy_mb_s", p.memory->copy_mb_s},
                   {"triad_mb_s", p.memory->triad_mb_s},
                   {"array_bytes", p.memory->array_bytes}};
  if (p.endurance)
    j["endurance"] = {{"seconds", p.endurance->seconds},           {"burst", p.endurance->burst},
                      {"sustained", p.endurance->sustained},       {"shared", p.endurance->shared},
                      {"side_by_side", p.endurance->side_by_side}, {"first_mhz", p.endurance->first_mhz},
                      {"last_mhz", p.endurance->last_mhz}};
  for (const Contention& c : p.contention)
    j["contention"].push_back({{"work", c.work},
                               {"alone_ms", c.alone_ms},
                               {"beside_same_ms", c.beside_same_ms},
                               {"beside_other_ms", c.beside_other_ms}});
  if (p.accelerator)
    j["accelerator"] = {{"name", p.accelerator->name},
                        {"up_mb_s", p.accelerator->up_mb_s},
                        {"down_mb_s", p.accelerator->down_mb_s}};
  for (const VolumeSpeed& v : p.volumes) j["volumes"].push_back(to_json(v, with_paths));
  for (const FormCost& f : p.forms) j["forms"].push_back(to_json(f));
  for (const auto& [id, law] : p.laws) j["laws"].push_back(law.to_json());
  return j;
}

namespace {

Json list_in(const Json& j, const char* key) {
  const auto it = j.find(key);
  return it != j.end() && it->is_array() ? *it : Json::array();
}

void take_machine(SeatProfile& p, const Json& machine, std::string& trouble) {
  Numbers n{machine, trouble};
  p.processor = text_or(machine, "processor", "");
  p.processors = static_cast<int>(n.get("processors", 0, 1, 4096));
  p.cores = static_cast<int>(n.get("cores", p.processors, 1, 4096));
  p.memory_bytes = static_cast<std::uint64_t>(n.get("memory_bytes", 0, 0, 1e15));
  p.memory_left_gb = n.get("memory_left_gb", 4, 0, 1e6);
  p.last_level_cache_bytes = static_cast<std::uint64_t>(n.get("last_level_cache_bytes", 0, 0, 1e12));
  p.screen_width = static_cast<int>(n.get("screen_width", 0, 0, 1e5));
  p.screen_height = static_cast<int>(n.get("screen_height", 0, 0, 1e5));
}

VolumeSpeed volume_from(const Json& o, std::string& trouble) {
  Numbers n{o, trouble};
  VolumeSpeed v;
  v.label = text_or(o, "label", ""), v.type = text_or(o, "type", "unknown"), v.file_system = text_or(o, "file_system", "");
  v.folder = text_or(o, "folder", "");
  v.bytes = static_cast<std::uint64_t>(n.get("bytes", 0, 0, 1e18));
  v.free_bytes = static_cast<std::uint64_t>(n.get("free_bytes", 0, 0, 1e18));
  v.write_mb_s = n.get("write_mb_s", 0, 0, kFast), v.read_mb_s = n.get("read_mb_s", 0, 0, kFast);
  v.cached_read_mb_s = n.get("read_again_mb_s", 0, 0, kFast);
  v.direct = flag_or(o, "page_cache_kept_out", false);
  for (const Json& s : list_in(o, "readers_at_once")) {
    Numbers r{s, trouble};
    v.streams.push_back({static_cast<int>(r.get("streams", 1, 1, 4096)), r.get("mb_s", 0, 0, kFast)});
  }
  for (const Json& f : list_in(o, "by_fill")) {
    Numbers r{f, trouble};
    v.fills.push_back({r.get("full", 0, 0, 1), r.get("write_mb_s", 0, 0, kFast), r.get("read_mb_s", 0, 0, kFast)});
  }
  for (const Json& s : list_in(o, "notes"))
    if (s.is_string()) v.notes.push_back(s.get<std::string>());
  if (const Json* ms = object_at(o, "write_ms")) {
    Numbers w{*ms, trouble};
    v.write_ms_50 = w.get("p50", 0, 0, 1e7), v.write_ms_95 = w.get("p95", 0, 0, 1e7), v.write_ms_99 = w.get("p99", 0, 0, 1e7);
  }
  return v;
}

FormCost form_from(const Json& o, std::string& trouble) {
  Numbers n{o, trouble};
  FormCost f;
  f.form = text_or(o, "form", "");
  f.width = static_cast<int>(n.get("width", 0, 1, 32768)), f.height = static_cast<int>(n.get("height", 0, 1, 32768));
  f.bits = static_cast<int>(n.get("bits", 8, 1, 32)), f.alpha = flag_or(o, "alpha", false);
  f.bytes = n.get("bytes", 0, 1, 1e12);
  f.encode_ms = n.get("encode_ms", 0, 0, 1e7), f.decode_ms = n.get("decode_ms", 0, 0, 1e7);
  f.threads = static_cast<int>(n.get("threads", 1, 1, 4096));
  f.encode_fps = n.get("encode_fps", 0, 0, 1e7), f.decode_fps = n.get("decode_fps", 0, 0, 1e7);
  f.psnr_db = n.get("psnr_db", 0, 0, 1e4), f.ssim = n.get("ssim", 0, -1, 1.0001);
  return f;
}

}  // namespace

Result<SeatProfile> profile_from_json(const Json& j, const std::string& where) {
  if (!j.is_object() || text_or(j, "glass_clock", "") != "seat profile")
    return bad(where, "it does not say that it is one");
  const double version = number_or(j, "version", 0);
  if (version > SeatProfile::kVersion)
    return bad_input(fmt::format("is a seat profile of version {}, and this program reads {}", version,
                                 SeatProfile::kVersion),
                     where, "Update the program.");
  if (version < 1) return bad(where, "it has no version");
  SeatProfile p;
  std::string trouble;
  p.name = text_or(j, "name", "Seat"), p.made = text_or(j, "made", ""),
  p.invented = flag_or(j, "invented", false);
  take_machine(p, j.value("machine", Json::object()), trouble);
  p.accelerator_trouble = text_or(j, "accelerator_trouble", "");
  if (const Json* o = object_at(j, "background")) {
    Numbers n{*o, trouble};
    p.others = n.get("other_programs", 0, 0, 1), p.stolen = n.get("stolen", 0, 0, 1), p.shared = n.get("shared_cores", 0, 0, 1);
  }
  if (const Json* o = object_at(j, "memory")) {
    Numbers n{*o, trouble};
    p.memory = MemoryBandwidth{n.get("copy_mb_s", 0, 1, kFast), n.get("triad_mb_s", 0, 1, kFast),
                               static_cast<std::size_t>(n.get("array_bytes", 0, 0, 1e13))};
  }
  if (const Json* o = object_at(j, "endurance")) {
    Numbers n{*o, trouble};
    p.endurance =
        Endurance{n.get("seconds", 0, 0, 1e6), n.get("burst", 1, 0, 10),       n.get("sustained", 1, 0, 10),
                  n.get("shared", 0, 0, 1),    n.get("side_by_side", 1, 0, 1), n.get("first_mhz", 0, 0, 1e5),
                  n.get("last_mhz", 0, 0, 1e5)};
  }
  if (const Json* o = object_at(j, "accelerator")) {
    Numbers n{*o, trouble};
    p.accelerator = AcceleratorSpeed{text_or(*o, "name", ""), n.get("up_mb_s", 0, 0, kFast),
                                     n.get("down_mb_s", 0, 0, kFast)};
  }
  for (const Json& o : list_in(j, "contention")) {
    Numbers n{o, trouble};
    p.contention.push_back({text_or(o, "work", ""), n.get("alone_ms", 0, 0, 1e6),
                            n.get("beside_same_ms", 0, 0, 1e6), n.get("beside_other_ms", 0, 0, 1e6)});
  }
  for (const Json& o : list_in(j, "volumes")) p.volumes.push_back(volume_from(o, trouble));
  for (const Json& o : list_in(j, "forms")) p.forms.push_back(form_from(o, trouble));
  if (!trouble.empty()) return bad(where, trouble);
  if (p.processors < 1) return bad(where, "the number of processors is missing");
  for (const Json& o : list_in(j, "laws")) {
    auto law = CostLaw::from_json(o);
    if (!law) return bad_input(law.error().what, where, law.error().remedy);
    p.laws.insert_or_assign(law->name().id, std::move(*law));
  }
  p.eras = list_in(j, "eras");
  for (const Json& u : list_in(j, "unknown"))
    if (u.is_string()) p.unknown.push_back(u.get<std::string>());
  return p;
}

Result<SeatProfile> load_profile(const fs::path& file) {
  const auto text = read_file(file);
  if (!text) return std::unexpected(text.error());
  const auto json = parse_json(*text, file.string());
  if (!json) return std::unexpected(json.error());
  return profile_from_json(*json, file.string());
}

Result<void> save_profile(const SeatProfile& profile, const fs::path& file, bool with_paths) {
  return write_file_atomic(file, to_json(profile, with_paths).dump(1) + "\n");
}

SeatRatio ratio_between(const SeatProfile& ours, const SeatProfile& theirs, StageKind kind) {
  std::vector<double> of_kind, all;
  for (const auto& [id, law] : ours.laws) {
    const CostLaw* other = theirs.law(id);
    if (!other) continue;
    std::vector<double> ratios;
    for (const LawPoint& p : law.points()) {
      const auto a = law.predict(p.terms), b = other->predict(p.terms);
      if (a && b && a->ms > 0.05) ratios.push_back(std::log(b->ms / a->ms));
    }
    if (ratios.empty()) continue;
    std::sort(ratios.begin(), ratios.end());
    all.push_back(ratios[ratios.size() / 2]);
    if (law.name().kind == kind) of_kind.push_back(all.back());
  }
  std::vector<double>& use = of_kind.size() >= 3 ? of_kind : all;
  SeatRatio r;
  r.laws = static_cast<int>(use.size());
  if (use.empty()) return r;
  std::sort(use.begin(), use.end());
  const double mid = use[use.size() / 2];
  std::vector<double> off;
  for (const double v : use) off.push_back(std::abs(v - mid));
  std::sort(off.begin(), off.end());
  r.factor = std::exp(mid);
  r.spread = std::max(0.1, off[off.size() / 2] * 1.4826);
  return r;
}

FormFit fit_of(const FormCost& f, const VolumeSpeed& v, double fps) {
  FormFit fit;
  const double needs_mb_s = f.bytes * fps / 1e6;
  fit.volume_margin = needs_mb_s > 0 ? v.read_mb_s / needs_mb_s : 0;
  const double can = f.decode_fps > 0 ? f.decode_fps : f.decode_ms > 0 ? 1000 / f.decode_ms : 0;
  fit.decode_margin = can / fps;
  return fit;
}

}  // namespace gc
