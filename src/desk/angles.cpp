#include "desk/angles.h"

#include <fmt/format.h>

#include <cmath>

#include "effects/registry.h"
#include "interchange/otio.h"

namespace gc {
namespace {

/// Cell `index` of a grid with as many columns as it needs to be about square. Rows are in the middle of the raster.
Effect placed_in_cell(std::size_t index, std::size_t columns, std::size_t rows) {
  const double row = static_cast<double>(index / columns), column = static_cast<double>(index % columns), side = 1.0 / static_cast<double>(columns);
  Effect placed;
  placed.id = placed.type = transform_effect().id;
  placed.params = {{"scale", side},
                   {"x", (column + 0.5) * side},
                   {"y", 0.5 + (row - (static_cast<double>(rows) - 1) / 2) * side}};
  return placed;
}

}  // namespace

Result<TimelinePtr> angles_side_by_side(const Timeline& timeline, const std::string& segment) {
  const SegmentPtr shown = find_segment(timeline, segment);
  if (!shown) return usage(fmt::format("there is no segment '{}'", segment), "`gclk angles` lists those with several angles.");
  const std::size_t count = shown->angles.size();
  if (count < 2) return usage(fmt::format("'{}' has one picture of its moment", shown->name), "`gclk angles` lists those with several angles.");
  if (count > kMostAngles)
    return usage(fmt::format("'{}' has {} angles, and {} can be seen at a time", shown->name, count, kMostAngles), "Leave some out of the clip's media references.");
  const auto columns = static_cast<std::size_t>(std::ceil(std::sqrt(static_cast<double>(count))));
  const std::size_t rows = (count + columns - 1) / columns;

  auto grid = std::make_shared<Timeline>();
  grid->name = fmt::format("{}, {} angles", shown->name, count);
  grid->rate = timeline.rate, grid->width = timeline.width, grid->height = timeline.height;
  grid->start = timeline.start, grid->drop_frame = timeline.drop_frame;
  grid->working_space = timeline.working_space, grid->display_space = timeline.display_space;
  grid->folder = timeline.folder;
  std::size_t index = 0;
  for (const auto& [key, source] : shown->angles) {
    const auto medium = timeline.sources.find(source);
    if (medium == timeline.sources.end()) return bad_input(fmt::format("angle '{}' has no medium", key), timeline.name, "Look at the clip's media references.");
    grid->sources.insert(*medium);
    auto cell = std::make_shared<Segment>();
    cell->id = fmt::format("{}-{}", shown->id, index + 1), cell->name = key;
    cell->content = Content::source, cell->ref = source;
    cell->duration = shown->duration, cell->source_in = shown->source_in, cell->source_rate = shown->source_rate, cell->speed = shown->speed;
    cell->fit = shown->fit, cell->truth = Truth::timing;
    cell->stack = {placed_in_cell(index, columns, rows)};
    auto track = std::make_shared<Track>();
    track->id = fmt::format("V{}", index + 1), track->name = key;
    track->items = {SegmentPtr(cell)};
    grid->tracks.push_back(track);
    ++index;
  }
  return grid;
}

Result<void> write_angles(const Timeline& timeline, const std::string& segment, const std::filesystem::path& file) {
  const auto grid = angles_side_by_side(timeline, segment);
  if (!grid) return std::unexpected(grid.error());
  if (auto r = must_be_free(file); !r) return r;
  return save_timeline(**grid, file);
}

}  // namespace gc
