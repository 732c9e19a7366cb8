// What forms make of a picture's matrix.
#pragma once
#include "media/writer.h"

namespace gc {

/// Whether a picture read back from this form has the matrix it was written with. VC-3 says BT.709 of all its pictures.
bool keeps_matrix(Form form, const AVFrame& picture);

}  // namespace gc
