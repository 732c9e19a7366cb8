// Errors as values. Every error says what happened, to what, and what to do about it.
#pragma once
#include <exception>
#include <expected>
#include <new>
#include <optional>
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

/// Runs `f` and says what it threw, as an error; nothing when it threw nothing. For the edge of a thread, where
/// what nobody expected ends one job and not the program.
template <class F>
std::optional<Error> caught(F&& f) {
  try {
    f();
    return std::nullopt;
  } catch (const std::bad_alloc&) {
    return Error{Fault::environment, "there was not enough memory", {},
                 "Close other programs, or let a smaller playback scale or fewer processors be used."};
  } catch (const std::exception& e) {
    return Error{Fault::environment, std::string("something unexpected happened: ") + e.what(), {},
                 "Try again; if it happens again, leave this segment out and report it."};
  }
}

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
