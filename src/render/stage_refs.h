// Stages that sources and rendered media have alike: reading, decoding and converting, with what their costs grow with.
#pragma once
#include <utility>

#include "render/program.h"

namespace gc {

/// Reading and decoding grow with the file's pixels and bytes, not with the raster.
/// @param threads_in_order as in StageRef::in_order
std::pair<StageRef, StageRef> fetch_stages(Hash128 read, Hash128 decode, int owner, const std::string& codec, double mpix,
                                           double mbytes, int threads_in_order);

/// Converting a picture of width × height and this pixel format to its place on a raster.
StageRef convert_stage(Hash128 key, int owner, const std::string& format, int width, int height, int raster_width,
                       int raster_height, const Placement& placement = {}, double aspect = 1);

/// What a conversion costs when it goes to the screen's 8 bits at once.
StageRef straight_stage(StageRef convert, const std::string& format);

}  // namespace gc
