// Opening one media file, and nothing that it names.
#pragma once
#include <string>

#include "base/error.h"
#include "media/av.h"

namespace gc {

/// Opens a local file as one of the containers that are read here (docs/formats.md has the list). What its name does not
/// tell, or tells wrongly, its content does.
/// @param io what it is read through; null: the file itself. Stays the caller's.
/// @param interrupt asked while it is being opened
Result<av::Format> open_container(const std::string& path, AVIOContext* io, AVIOInterruptCB interrupt);

}  // namespace gc
