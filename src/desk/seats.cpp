#include "desk/seats.h"

#include <fmt/format.h>

#include <cmath>

#include "base/log.h"
#include "desk/report.h"
#include "measure/seat_run.h"

namespace gc {
namespace {

/// Where what ships with the program lies: beside it when it is installed, in the source tree else.
std::vector<fs::path> seat_folders() {
  std::error_code e;
  const fs::path program = fs::read_symlink("/proc/self/exe", e);
  return {program.parent_path() / "../share/glass-clock/seats", fs::path(GCLK_DATA) / "seats"};
}

std::string gb(double bytes) { return fmt::format("{:.0f} GB", bytes / 1e9); }

}  // namespace

fs::path kept_profile_file() { return data_folder() / "seat.json"; }

SeatProfile known_profile(const Stores& stores) {
  SeatProfile p = profile_of(*stores.notebook, stores.options.settings.memory_left_gb);
  std::error_code e;
  if (!fs::exists(kept_profile_file(), e)) return p;
  auto kept = load_profile(kept_profile_file());
  if (!kept) {
    spdlog::warn("{}", kept.error().text());
    return p;
  }
  p.memory = kept->memory, p.endurance = kept->endurance, p.contention = kept->contention,
  p.accelerator = kept->accelerator;
  p.accelerator_trouble = kept->accelerator_trouble, p.volumes = kept->volumes, p.forms = kept->forms;
  p.others = kept->others, p.stolen = kept->stolen, p.shared = kept->shared, p.unknown = kept->unknown;
  p.screen_width = kept->screen_width, p.screen_height = kept->screen_height;
  p.made = kept->made;
  return p;
}

Result<void> keep_profile(const SeatProfile& profile) {
  SeatProfile p = profile;
  p.laws.clear();  // the notebook has them, with every sample
  return save_profile(p, kept_profile_file(), true);
}

std::vector<SeatProfile> invented_seats() {
  std::vector<SeatProfile> all;
  for (const fs::path& folder : seat_folders()) {
    std::error_code e;
    std::vector<fs::path> files;
    for (const auto& entry : fs::directory_iterator(folder, e))
      if (entry.path().extension() == ".json") files.push_back(entry.path());
    std::sort(files.begin(), files.end());
    for (const fs::path& f : files) {
      auto p = load_profile(f);
      if (p) all.push_back(std::move(*p));
      else spdlog::warn("{}", p.error().text());
    }
    if (!all.empty()) break;
  }
  return all;
}

Result<SeatProfile> find_profile(const std::string& name) {
  std::error_code e;
  if (fs::is_regular_file(name, e)) return load_profile(name);
  std::string names;
  if (name == "this") {
    auto stores = Stores::open({});
    if (!stores) return std::unexpected(stores.error());
    return known_profile(*stores);
  }
  for (SeatProfile& p : invented_seats()) {
    if (p.name == name) return std::move(p);
    names += ", '" + p.name + "'";
  }
  return bad_input("is neither a file nor a seat that ships", name,
                   "Give a profile's file, 'this'" + names + ".");
}

std::vector<SeatRow> compare_seats(const SeatProfile& a, const SeatProfile& b) {
  std::vector<SeatRow> rows;
  const auto speed = [&](const std::string& what, double x, double y, const char* unit) {
    if (x <= 0 && y <= 0) return;
    rows.push_back({what, x > 0 ? fmt::format("{:.0f} {}", x, unit) : "not known",
                    y > 0 ? fmt::format("{:.0f} {}", y, unit) : "not known", x > 0 && y > 0 ? y / x : 0});
  };
  rows.push_back({"Processor", a.processor, b.processor, 0});
  rows.push_back({"Processors", std::to_string(a.processors), std::to_string(b.processors),
                  static_cast<double>(b.processors) / a.processors});
  rows.push_back(
      {"Memory", gb(static_cast<double>(a.memory_bytes)), gb(static_cast<double>(b.memory_bytes)), 0});
  speed("Memory copy", a.memory ? a.memory->copy_mb_s : 0, b.memory ? b.memory->copy_mb_s : 0, "MB/s");
  rows.push_back({"Accelerator", a.accelerator ? a.accelerator->name : "none",
                  b.accelerator ? b.accelerator->name : "none", 0});
  for (std::size_t i = 0; i < std::max(a.volumes.size(), b.volumes.size()); ++i) {
    const auto of = [&](const SeatProfile& p) { return i < p.volumes.size() ? p.volumes[i].read_mb_s : 0.0; };
    speed(fmt::format("Volume {} reads", static_cast<char>('A' + i)), of(a), of(b), "MB/s");
  }
  for (const FormCost& f : a.forms)
    if (const FormCost* other = b.form(f.form))
      if (f.width == other->width && f.height == other->height)
        speed("Decoding " + f.form, f.decode_fps, other->decode_fps, "frames/s");
  for (const auto& [id, law] : a.laws) {
    const CostLaw* other = b.law(id);
    if (!other || law.points().empty()) continue;
    // At the place that most samples were taken at.
    const auto most =
        std::max_element(law.points().begin(), law.points().end(),
                         [](const LawPoint& x, const LawPoint& y) { return x.count < y.count; });
    const auto x = law.predict(most->terms), y = other->predict(most->terms);
    if (x && y && x->ms > 0.4)
      rows.push_back({law.name().label, fmt::format("{:.1f} ms", x->ms), fmt::format("{:.1f} ms", y->ms),
                      x->ms / y->ms});
  }
  return rows;
}

Json to_json(const Advice& a) {
  Json j{{"sentence", a.sentence},  {"expected_drops", a.drops},    {"spilling", a.spilling},
         {"wavering", a.wavering},  {"least_speed", a.least_speed}, {"least_processors", a.least_processors},
         {"advice", Json::array()}, {"binding", Json::array()},     {"gains", Json::array()},
         {"seats", Json::array()}};
  for (const AdviceItem& i : a.items) j["advice"].push_back(i.text);
  for (const Span& s : a.binding)
    j["binding"].push_back({{"in", s.in},
                            {"out", s.out},
                            {"verdict", verdict_name(s.verdict)},
                            {"resource", cause_name(s.cause)},
                            {"stage", s.blame.label},
                            {"ms", s.blame.ms}});
  for (const Gain& g : a.gains)
    j["gains"].push_back({{"resource", g.resource},
                          {"factor", g.factor},
                          {"expected_drops", g.drops},
                          {"not_holding", g.not_holding}});
  for (const SeatVerdict& v : a.seats)
    j["seats"].push_back({{"seat", v.seat},
                          {"expected_drops", v.drops},
                          {"spilling", v.spilling},
                          {"wavering", v.wavering},
                          {"holds", v.holds()},
                          {"taken_over", v.taken_over}});
  return j;
}

}  // namespace gc
