// What forms make of a picture's matrix.
#pragma once
#include "media/writer.h"

namespace gc {

/// Whether reading takes this picture by the matrix of ITU-R BT.709, stated or not. RGB has it when it is written as YUV.
bool has_bt709_matrix(const AVFrame& picture);

}  // namespace gc
