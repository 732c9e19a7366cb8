#include "desk/print_page.h"

#include "base/process.h"

namespace gc {

Result<void> print_page(const std::string& html, const fs::path& pdf) {
  if (auto r = must_be_free(pdf); !r) return r;
  std::error_code e;
  const fs::path program = fs::read_symlink("/proc/self/exe", e).parent_path() / "glass-clock";
  if (!fs::exists(program, e)) return environment("the program that lays pages out is not there", program.string(), "Install glass-clock beside gclk, or write .html and print it.");
  auto scratch = ScratchFolder::make(cache_folder(), "paper-");
  if (!scratch) return std::unexpected(scratch.error());
  const fs::path page = scratch->path() / "page.html";
  if (auto r = write_file_atomic(page, html); !r) return r;
  // A page needs no screen.
  const auto printed = run_program(program.string(), {"--print", page.string(), fs::absolute(pdf).string()}, {"QT_QPA_PLATFORM=offscreen"});
  if (!printed) return environment("the page could not be written: " + printed.error().what, pdf.string(), "Choose a folder you may write to, or write .html and print it.");
  return {};
}

}  // namespace gc
