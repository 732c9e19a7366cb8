#include "queue/idle.h"

#include <dlfcn.h>
#include <sys/stat.h>

#include <algorithm>
#include <ctime>
#include <filesystem>
#include <fstream>
#include <string>

namespace gc {
namespace {

namespace fs = std::filesystem;

/// XScreenSaver's extension, taken when it is there, so that nothing has to be installed for it.
class XIdle {
 public:
  XIdle() {
    x_ = ::dlopen("libX11.so.6", RTLD_NOW), saver_ = ::dlopen("libXss.so.1", RTLD_NOW);
    if (!x_ || !saver_) return;
    const auto open = reinterpret_cast<void* (*)(const char*)>(::dlsym(x_, "XOpenDisplay"));
    const auto alloc = reinterpret_cast<Info* (*)()>(::dlsym(saver_, "XScreenSaverAllocInfo"));
    root_ = reinterpret_cast<unsigned long (*)(void*)>(::dlsym(x_, "XDefaultRootWindow"));
    query_ = reinterpret_cast<int (*)(void*, unsigned long, Info*)>(::dlsym(saver_, "XScreenSaverQueryInfo"));
    if (open && alloc && root_ && query_ && std::getenv("DISPLAY")) display_ = open(nullptr), info_ = alloc();
  }
  double seconds() const {
    if (!display_ || !info_ || query_(display_, root_(display_), info_) == 0) return 1e9;
    return static_cast<double>(info_->idle) / 1000;
  }

 private:
  /// As the extension's header has it.
  struct Info {
    unsigned long window;
    int state, kind;
    unsigned long til_or_since, idle, event_mask;
  };
  void *x_ = nullptr, *saver_ = nullptr, *display_ = nullptr;
  unsigned long (*root_)(void*) = nullptr;
  int (*query_)(void*, unsigned long, Info*) = nullptr;
  Info* info_ = nullptr;
};

/// A terminal's time of access is when something was typed there.
double terminals() {
  double least = 1e9;
  const double now = static_cast<double>(std::time(nullptr));
  std::error_code e;
  for (const char* folder : {"/dev/pts", "/dev"})
    for (const auto& entry : fs::directory_iterator(folder, e)) {
      const std::string name = entry.path().filename().string();
      const bool terminal = std::string(folder) == "/dev/pts" ? name != "ptmx" : name.size() > 3 && name.starts_with("tty") && name[3] >= '0' && name[3] <= '9';
      struct stat s {};
      if (terminal && ::stat(entry.path().c_str(), &s) == 0) least = std::min(least, std::max(0.0, now - static_cast<double>(s.st_atime)));
    }
  return least;
}

}  // namespace

double seconds_without_input() {
  static const XIdle x;
  return std::min(x.seconds(), terminals());
}

double memory_stalled() {
  std::ifstream pressure("/proc/pressure/memory");
  for (std::string line; std::getline(pressure, line);)
    if (const auto at = line.find("avg10="); line.starts_with("some") && at != std::string::npos) return std::strtod(line.c_str() + at + 6, nullptr) / 100;
  return 0;
}

bool on_mains() {
  std::error_code e;
  bool any = false, plugged = false;
  for (const auto& supply : fs::directory_iterator("/sys/class/power_supply", e)) {
    int online = 0;
    std::ifstream file(supply.path() / "online");
    if (file >> online) any = true, plugged = plugged || online != 0;
  }
  return !any || plugged;
}

}  // namespace gc
