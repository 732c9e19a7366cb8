#pragma once
#include <QString>
#include <string>

namespace gc {

/// The core speaks UTF-8.
inline QString text(const std::string& s) { return QString::fromStdString(s); }
inline QString number(double v, int digits = 1) { return QString::number(v, 'f', digits); }

}  // namespace gc
