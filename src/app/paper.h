// A report on paper.
#pragma once
#include <QString>

#include "base/files.h"

namespace gc {

/// Lays the page out on A4 and writes it as PDF, in one step: on failure nothing lies there. Needs a QGuiApplication.
Result<void> write_pdf(const QString& html, const fs::path& file);

}  // namespace gc
