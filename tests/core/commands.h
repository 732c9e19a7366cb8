// The commands as a script runs them, with folders of their own.
#pragma once
#include <sys/wait.h>

#include "support.h"

namespace gc::test {

struct Ran {
  int code = -1;
  std::string out;
  Json json() const { return Json::parse(out, nullptr, false); }
};

class Commands : public testing::Test {
 protected:
  Ran gclk(const std::string& arguments, const std::string& error_to = "/dev/null") {
    const std::string command = "XDG_CACHE_HOME='" + (dir_ / "cache").string() + "' XDG_CONFIG_HOME='" +
                                (dir_ / "config").string() + "' XDG_DATA_HOME='" + (dir_ / "data").string() +
                                "' '" GCLK_BINARY "' " + arguments + " 2>" + error_to;
    Ran r;
    FILE* p = ::popen(command.c_str(), "r");
    char buffer[4096];
    for (std::size_t n; (n = std::fread(buffer, 1, sizeof buffer, p)) > 0;) r.out.append(buffer, n);
    r.code = WEXITSTATUS(::pclose(p));
    return r;
  }
  std::string small() {
    test::movie(dir_ / "m.mp4", Form::h264_long_gop, 256, 144, 60);
    const TimelinePtr t = test::Build()
                              .media("m", "m.mp4", 60)
                              .track("V1")
                              .segment("a", "m", 0, 24, {blur("b", 2), cdl("g", 1.1)})
                              .segment("c", "m", 24, 24)
                              .done();
    const fs::path file = dir_ / "cut.otio";
    EXPECT_TRUE(save_timeline(*t, file));
    return "'" + file.string() + "'";
  }
  TempFolder dir_;
};

}  // namespace gc::test
