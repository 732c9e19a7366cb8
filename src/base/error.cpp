#include "base/error.h"

namespace gc {

std::string Error::text() const {
  std::string t = where.empty() ? what : where + ": " + what;
  if (!t.empty() && t.back() != '.') t += '.';
  if (!remedy.empty()) t += " " + remedy;
  return t;
}

}  // namespace gc
