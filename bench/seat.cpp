// The seat's figures beside those of others in the same minute: volumes against fio, memory against STREAM's
// kernels. Ratios, medians of alternating runs. Usage: gclk_bench_seat [FOLDER]
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstdio>

#include "base/files.h"
#include "base/json.h"
#include "pipeline/pipeline.h"
#include "seat/machine.h"
#include "seat/volumes.h"
#include "stream.h"

namespace {

double median(std::vector<double> v) {
  std::sort(v.begin(), v.end());
  return v[v.size() / 2];
}

/// MB a second of fio with direct I/O in blocks of a frame; 0 when it is not installed.
double fio(const std::filesystem::path& folder, const char* way, std::size_t block, std::uint64_t bytes) {
  const std::string command = fmt::format(
      "fio --name=frames --directory='{}' --rw={} --bs={} --size={} --direct=1 --ioengine=psync "
      "--end_fsync=1 --output-format=json "
      "2>/dev/null",
      folder.string(), way, block, bytes);
  FILE* p = ::popen(command.c_str(), "r");
  if (!p) return 0;
  std::string out;
  std::array<char, 4096> buffer;
  for (std::size_t n; (n = std::fread(buffer.data(), 1, buffer.size(), p)) > 0;) out.append(buffer.data(), n);
  ::pclose(p);
  const auto at = out.find('{');
  if (at == std::string::npos) return 0;
  const auto j = gc::parse_json(out.substr(at), "fio");
  if (!j) return 0;
  return (*j)["jobs"][0][way == std::string("read") ? "read" : "write"].value("bw_bytes", 0.0) / 1e6;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace gc;
  const fs::path folder = argc > 1 ? fs::path(argv[1]) : cache_folder();
  const int workers = default_workers();
  std::vector<double> copy, triad;
  for (int i = 0; i < 3; ++i) {
    const MemoryBandwidth ours = measure_memory(workers, 160, 6);
    const Stream theirs = stream(workers, 6);
    copy.push_back(ours.copy_mb_s / theirs.copy_mb_s), triad.push_back(ours.triad_mb_s / theirs.triad_mb_s);
  }
  fmt::print("memory against STREAM's kernels, same minute: copy {:.2f}, triad {:.2f} (goal 0.85 to 1.15)\n",
             median(copy), median(triad));

  constexpr std::size_t kBlock = 917504;  // a frame of VC-3 HQX at 1920 × 1080
  constexpr std::uint64_t kBytes = 128 * kBlock;
  std::vector<double> write, read;
  for (int i = 0; i < 3; ++i) {
    VolumeOptions o;
    o.chunk = kBlock, o.bytes = kBytes, o.seconds = 6;
    const auto ours = measure_volume(folder, o);
    if (!ours) {
      fmt::print(stderr, "{}\n", ours.error().text());
      return 4;
    }
    const double w = fio(folder, "write", kBlock, kBytes), r = fio(folder, "read", kBlock, kBytes);
    std::error_code e;
    for (const auto& entry : fs::directory_iterator(folder, e))
      if (entry.path().filename().string().starts_with("frames.")) fs::remove(entry.path(), e);
    if (w <= 0 || r <= 0) {
      fmt::print("fio is not installed; volumes were not compared\n");
      return 0;
    }
    fmt::print("  run {}: ours {:.0f} MB/s writing, {:.0f} reading; fio {:.0f} and {:.0f}\n", i + 1,
               ours->write_mb_s, ours->read_mb_s, w, r);
    write.push_back(ours->write_mb_s / w), read.push_back(ours->read_mb_s / r);
  }
  fmt::print("volume against fio, same minute: writing {:.2f}, reading {:.2f} (goal 0.85 to 1.15)\n",
             median(write), median(read));
}
