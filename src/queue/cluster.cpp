#include "queue/cluster.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <numeric>
#include <queue>
#include <sstream>

#include "base/process.h"

namespace gc {
namespace {

std::string program(const Cluster& c, const char* name) { return c.programs.empty() ? name : (c.programs / name).string(); }

/// "3", "4-7", "1,5-6%2": numbers of an array's tasks as squeue writes them.
std::set<int> numbers(const std::string& text) {
  std::set<int> all;
  std::istringstream parts(text.substr(0, text.find('%')));
  for (std::string part; std::getline(parts, part, ',');) {
    int from = 0, to = 0;
    const int found = std::sscanf(part.c_str(), "%d-%d", &from, &to);
    if (found < 1) continue;
    if (found == 1) to = from;
    constexpr int kMost = 100'000;
    for (int n = from; n <= std::min(to, from + kMost); ++n) all.insert(n);
  }
  return all;
}

}  // namespace

Result<std::string> submit_array(const Cluster& cluster, const fs::path& script, const std::set<int>& tasks, const fs::path& log_folder) {
  std::vector<std::string> arguments{"--parsable", "--requeue", fmt::format("--array={}", fmt::join(tasks, ",")), "--job-name=glass-clock",
                                     "--output=" + (log_folder / "task-%a.log").string()};
  if (!cluster.partition.empty()) arguments.push_back("--partition=" + cluster.partition);
  arguments.push_back(script.string());
  auto said = run_program(program(cluster, "sbatch"), arguments);
  if (!said) return std::unexpected(said.error());
  // "1234" or "1234;cluster".
  const std::string number = said->substr(0, said->find_first_of(";\n "));
  if (number.empty() || !std::ranges::all_of(number, [](char c) { return c >= '0' && c <= '9'; }))
    return environment("sbatch gave no number: " + *said, script.string(), "Look whether Slurm works: `sinfo`.");
  return number;
}

Result<ArrayState> state_of_array(const Cluster& cluster, const std::string& array) {
  const auto said = run_program(program(cluster, "squeue"), {"--noheader", "--array", "--jobs=" + array, "--format=%K %T"});
  ArrayState state;
  if (!said) {
    // What is long over is not known any more.
    if (said.error().what.find("Invalid job id") != std::string::npos) return state;
    return std::unexpected(said.error());
  }
  std::istringstream lines(*said);
  std::string which, how;
  while (lines >> which >> how) {
    const bool waits = how == "PENDING" || how == "REQUEUED" || how == "REQUEUE_HOLD" || how == "SUSPENDED";
    const bool runs = how == "RUNNING" || how == "CONFIGURING" || how == "COMPLETING" || how == "RESIZING";
    if (waits || runs) (waits ? state.waiting : state.running).merge(numbers(which));
  }
  return state;
}

Result<void> cancel_array(const Cluster& cluster, const std::string& array) {
  const auto said = run_program(program(cluster, "scancel"), {array});
  if (!said) return std::unexpected(said.error());
  return {};
}

Result<ClusterRoom> room_of(const Cluster& cluster) {
  std::vector<std::string> arguments{"--noheader", "--format=%D %t"};
  if (!cluster.partition.empty()) arguments.push_back("--partition=" + cluster.partition);
  const auto said = run_program(program(cluster, "sinfo"), arguments);
  if (!said) return std::unexpected(said.error());
  ClusterRoom room;
  std::istringstream lines(*said);
  int n = 0;
  for (std::string state; lines >> n >> state;) {
    const bool works = state.starts_with("idle") || state.starts_with("mix") || state.starts_with("alloc") || state.starts_with("comp");
    if (works && !state.ends_with("*")) room.nodes += n, room.idle += state.starts_with("idle") ? n : 0;
  }
  if (const auto waiting = run_program(program(cluster, "squeue"), {"--noheader", "--array", "--states=PENDING", "--format=%i"}))
    room.waiting = static_cast<int>(std::ranges::count(*waiting, '\n'));
  return room;
}

std::vector<Share> share_out(const std::vector<double>& seconds, int tasks) {
  std::vector<std::size_t> longest_first(seconds.size());
  std::iota(longest_first.begin(), longest_first.end(), 0u);
  std::stable_sort(longest_first.begin(), longest_first.end(), [&](std::size_t a, std::size_t b) { return seconds[a] > seconds[b]; });
  std::vector<Share> shares(static_cast<std::size_t>(std::max(1, tasks)));
  using Ends = std::pair<double, std::size_t>;
  std::priority_queue<Ends, std::vector<Ends>, std::greater<>> free;
  for (std::size_t i = 0; i < shares.size(); ++i) free.emplace(0, i);
  for (const std::size_t piece : longest_first) {
    const std::size_t to = free.top().second;
    free.pop();
    shares[to].pieces.push_back(piece), shares[to].seconds += seconds[piece];
    free.emplace(shares[to].seconds, to);
  }
  std::erase_if(shares, [](const Share& s) { return s.pieces.empty(); });
  // In the order in which they were given: neighbours are read one after another.
  for (Share& s : shares) std::ranges::sort(s.pieces);
  return shares;
}

double least_makespan(const std::vector<double>& seconds, int tasks) {
  if (seconds.empty()) return 0;
  return std::max(std::accumulate(seconds.begin(), seconds.end(), 0.0) / std::max(1, tasks), *std::ranges::max_element(seconds));
}

}  // namespace gc
