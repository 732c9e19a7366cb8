#include "desk/grades.h"

#include <OpenColorIO/OpenColorIO.h>
#include <fmt/format.h>

#include <set>
#include <sstream>

namespace gc {
namespace {

namespace OCIO = OCIO_NAMESPACE;

std::string plain(const std::string& name) { return fs::path(name).stem().string(); }

}  // namespace

Result<std::vector<Grade>> read_grades(const fs::path& file) {
  std::vector<Grade> all;
  try {
    const auto group = OCIO::CDLTransform::CreateGroupFromFile(file.c_str());
    for (int i = 0; i < group->getNumTransforms(); ++i) {
      const auto cdl = OCIO::DynamicPtrCast<const OCIO::CDLTransform>(std::as_const(*group).getTransform(i));
      if (!cdl) continue;
      Grade g;
      cdl->getSlope(g.slope), cdl->getOffset(g.offset), cdl->getPower(g.power);
      g.saturation = cdl->getSat();
      g.id = cdl->getFormatMetadata().getID();
      if (g.id.empty()) g.id = file.stem().string();
      all.push_back(g);
    }
  } catch (const OCIO::Exception& e) {
    return bad_input(std::string("its grades cannot be read: ") + e.what(), file.string(), "Give a .ccc, .cc or .cdl file.");
  }
  if (all.empty()) return bad_input("it holds no grades", file.string(), "Give a .ccc, .cc or .cdl file.");
  return all;
}

Result<void> write_grades(const std::vector<Grade>& grades, const fs::path& file) {
  if (auto r = must_be_free(file); !r) return r;
  if (file.extension() != ".ccc") return usage("grades are written as a collection", "Give a name that ends with .ccc.");
  std::ostringstream out;
  try {
    auto group = OCIO::GroupTransform::Create();
    std::set<std::string> ids;
    for (const Grade& g : grades) {
      auto cdl = OCIO::CDLTransform::Create();
      cdl->setSlope(g.slope), cdl->setOffset(g.offset), cdl->setPower(g.power), cdl->setSat(g.saturation);
      // Ids are unique in a collection.
      std::string id = g.id;
      for (int i = 2; !ids.insert(id).second; ++i) id = fmt::format("{}-{}", g.id, i);
      cdl->getFormatMetadata().setID(id.c_str());
      group->appendTransform(cdl);
    }
    group->write(OCIO::Config::CreateRaw(), "ColorCorrectionCollection", out);
  } catch (const OCIO::Exception& e) {
    return bad_input(std::string("the grades cannot be written: ") + e.what(), file.string(), "Look at the values of the grades.");
  }
  return write_file_atomic(file, out.str());
}

GradesTaken with_grades(const TimelinePtr& timeline, const std::vector<Grade>& grades) {
  GradesTaken taken{timeline, {}, {}};
  std::set<std::string> used;
  for (const SegmentPtr& s : video_segments(*timeline)) {
    std::set<std::string> names{s->name, plain(s->name)};
    if (const auto source = timeline->sources.find(s->ref); source != timeline->sources.end())
      names.insert({source->second->name, plain(source->second->name), source->first, source->first.substr(0, source->first.find('/'))});
    for (const Grade& g : grades) {
      if (!names.contains(g.id) && !names.contains(plain(g.id))) continue;
      taken.timeline = with_segment(*taken.timeline, with_grade(*s, g));
      taken.segments.push_back(s->id), used.insert(g.id);
      break;
    }
  }
  for (const Grade& g : grades)
    if (!used.contains(g.id)) taken.unused.push_back(g.id);
  return taken;
}

std::function<std::optional<EdlOptions::Medium>(const std::string&, const std::string&, const std::string&)> media_finder(const fs::path& folder, Rate rate) {
  auto files = std::make_shared<std::multimap<std::string, fs::path>>();
  std::error_code e;
  for (auto it = fs::recursive_directory_iterator(folder.empty() ? fs::path(".") : folder, fs::directory_options::skip_permission_denied, e); !e && it != fs::recursive_directory_iterator(); it.increment(e))
    if (it->is_regular_file(e)) files->emplace(it->path().filename().string(), it->path()), files->emplace(it->path().stem().string(), it->path());
  return [files, rate](const std::string& reel, const std::string& clip, const std::string& file) -> std::optional<EdlOptions::Medium> {
    std::error_code error;
    std::vector<fs::path> found;
    if (!file.empty() && fs::exists(file, error)) found.emplace_back(file);
    for (const std::string& name : {fs::path(file).filename().string(), clip, plain(clip), reel}) {
      if (!found.empty() || name.empty()) continue;
      for (auto [a, z] = files->equal_range(name); a != z; ++a) found.push_back(a->second);
    }
    for (const fs::path& path : found)
      if (const auto info = probe(fs::absolute(path).string()); info && info->frames > 0) {
        const double factor = rate.fps() / info->rate.fps();
        return EdlOptions::Medium{fs::absolute(path).string(), info->timecode < 0 ? -1 : static_cast<Frames>(std::llround(static_cast<double>(info->timecode) * factor)),
                                  static_cast<Frames>(std::llround(static_cast<double>(info->frames) * factor))};
      }
    return std::nullopt;
  };
}

}  // namespace gc
