// The pictures and sounds of The Kiln Year.
#pragma once
#include "demo/demo.h"

namespace gc::kiln {

/// Paints and writes what is missing in FOLDER/media; all of it when what is there is of another seed or raster. False: it
/// was all there.
Result<bool> make_media(const fs::path& folder, const DemoOptions& o, const std::function<void(double, const std::string&)>& progress);

}  // namespace gc::kiln
