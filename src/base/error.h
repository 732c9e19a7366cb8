// Errors as values. Every error says what happened, to what, and what to do about it.
#pragma once
#include <expected>
#include <string>

namespace gc {

/// Whose fault it is, which decides the exit code of a command.
enum class Fault {
  usage = 2,        ///< the command was called wrongly
  bad_input = 3,    ///< a file or a value in it is unusable
  environment = 4,  ///< the machine failed: disk, memory, device, cancelled work
};

struct Error {
  Fault fault = Fault::bad_input;
  std::string what;    ///< one sentence: what happened
  std::string where;   ///< file and place in it, may be empty
  std::string remedy;  ///< one sentence: what the person can do

  std::string text() const;
};

template <class T>
using Result = std::expected<T, Error>;

inline std::unexpected<Error> bad_input(std::string what, std::string where, std::string remedy) {
  return std::unexpected(Error{Fault::bad_input, std::move(what), std::move(where), std::move(remedy)});
}
inline std::unexpected<Error> environment(std::string what, std::string where, std::string remedy) {
  return std::unexpected(Error{Fault::environment, std::move(what), std::move(where), std::move(remedy)});
}
inline std::unexpected<Error> usage(std::string what, std::string remedy) {
  return std::unexpected(Error{Fault::usage, std::move(what), {}, std::move(remedy)});
}

}  // namespace gc
