#include "render/stage_refs.h"

namespace gc {

std::pair<StageRef, StageRef> fetch_stages(Hash128 read, Hash128 decode, int owner, const std::string& codec, double mpix,
                                           double mbytes, int threads_in_order) {
  StageRef r{StageKind::read, read, owner, law_name("read", "Reading", StageKind::read, {"MB"}), {}, true};
  r.terms[0] = static_cast<float>(mbytes), r.in_order = 1;
  StageRef d{StageKind::decode, decode, owner,
             law_name("decode " + codec, codec, StageKind::decode, {"Mpixel of the file", "MB"}), {}, false};
  d.terms[0] = static_cast<float>(mpix), d.terms[1] = static_cast<float>(mbytes);
  d.in_order = threads_in_order;
  return {r, d};
}

StageRef convert_stage(Hash128 key, int owner, const std::string& format, int width, int height, int raster_width,
                       int raster_height, const Placement& placement, double aspect) {
  const bool scaled = width != raster_width || height != raster_height || aspect != 1;
  const std::string name = format + (scaled ? ", scaled" : "");
  StageRef c{StageKind::convert, key, owner,
             law_name("convert " + name, "Convert " + name, StageKind::convert,
                      {"Mpixel", "Mpixel across", "Mpixel down", "Mpixel placed"}),
             {static_cast<float>(raster_width) * static_cast<float>(raster_height) / 1e6f}, false};
  if (!scaled) return c;
  const PlacedSize p = placed_size(width, height, raster_width, raster_height, placement, aspect);
  const ScalingWork work = scaling_work(p);
  c.terms[1] = static_cast<float>(work.across / 1e6), c.terms[2] = static_cast<float>(work.down / 1e6);
  c.terms[3] = static_cast<float>(p.width * p.height / 1e6);
  return c;
}

StageRef straight_stage(StageRef convert, const std::string& format) {
  const std::string name = format + (convert.terms[3] > 0 ? ", scaled" : "");
  convert.key = Hasher().add("straight").add(convert.key).done();
  convert.law = law_name("show " + name, "Show " + name, StageKind::convert,
                         {"Mpixel", "Mpixel across", "Mpixel down", "Mpixel placed"});
  return convert;
}

}  // namespace gc
