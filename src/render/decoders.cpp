#include "render/decoders.h"

#include <algorithm>
#include <utility>

#include "render/timed.h"

namespace gc {

void Decoders::close_some() {
  constexpr std::uint64_t kMostMemory = std::uint64_t{3} << 29;  // 1.5 GB
  std::uint64_t memory = 0;
  for (const Open& o : open_) memory += o.reader->memory();
  while (open_.size() > 1 && open_.back().asked != frames_ && (open_.size() > most_ || memory > kMostMemory)) {
    memory -= open_.back().reader->memory();
    open_.pop_back();
  }
}

std::list<Decoders::Open>::iterator Decoders::find(const DecodeRequest& request) {
  return std::find_if(open_.begin(), open_.end(),
                      [&](const Open& o) { return o.use == request.use && o.path == request.path; });
}

void Decoders::prepare(const FrameRecipe& recipe) {
  for (const DecodeRequest& request : recipe.requests) {
    if (request.offline) continue;
    const std::pair key{request.use, request.path};
    {
      const std::lock_guard lock(mutex_);
      if (find(request) != open_.end() || !preparing_.insert(key).second) continue;
    }
    auto reader = FrameReader::open(request.path, threads_);
    ReadTimes times;
    if (reader) {
      if (request.keep > 0) (*reader)->keep(request.keep);
      (*reader)->backwards(request.backwards);
      // What cannot be read is told when it is wanted.
      (void)(request.fields ? (*reader)->take_progressive(request.frame, &times) : (*reader)->take(request.frame, &times));
    }
    const std::lock_guard lock(mutex_);
    if (reader) {
      open_.push_front({request.use, request.path, std::move(*reader), frames_, times});
      close_some();
    }
    preparing_.erase(key);
    prepared_.notify_all();
  }
}

Result<Fetched::Picture> Decoders::take(const DecodeRequest& request, Fetched& into, StageLog& log,
                                        std::unique_lock<std::mutex>& lock) {
  const Stopwatch waiting;
  prepared_.wait(lock, [&] { return !preparing_.contains({request.use, request.path}); });
  const double waited = waiting.ms();
  auto it = find(request);
  ReadTimes times;
  const Stopwatch opening;
  if (it == open_.end()) {
    auto reader = FrameReader::open(request.path, threads_);
    if (!reader) return std::unexpected(reader.error());
    open_.push_front({request.use, request.path, std::move(*reader), frames_, {}});
    times.read_ms += opening.ms();
    times.cold = true;
    close_some();
  } else {
    open_.splice(open_.begin(), open_, it);
    if (waited > 0.5) times.read_ms += waited, times.cold = true;  // for its being opened ahead
  }
  open_.front().asked = frames_;
  if (request.keep > 0) open_.front().reader->keep(request.keep);
  FrameReader& reader = *open_.front().reader;
  reader.backwards(request.backwards);
  const DoingScope says(words_of(request.decode));
  auto picture = request.fields ? reader.take_progressive(request.frame, &times)
                                : reader.take(request.frame, &times, request.checksum);
  if (!picture) return std::unexpected(picture.error());
  // A frame takes as many pictures as the next ones do on the mean. Backwards most are found among those that were decoded on
  // the way to an earlier one: each takes its share of that.
  ReadTimes& latest = open_.front().latest;
  const bool reads = times.decoded + times.taken > 0, backwards = request.backwards && !reader.info().intra;
  if (reads) latest = times;
  const double each = reader.info().intra ? 1 : backwards ? request.pictures : std::max(1.0f, request.pictures);
  if (reads || backwards) {
    auto& [sum, pictures] = by_use_[request.use];
    sum.first += each * latest.turn_ms(), sum.second += each * latest.beside_ms(), ++pictures;
  }
  into.decodes_between = into.decodes_between || !reader.info().intra;
  into.waited_ms += times.waited_ms;
  // What stands alone and was not read yet is logged by whoever decodes it.
  const bool here = times.read_ms > 0 || times.decoded > 0 || (*picture)->decoded();
  if (!here) return Fetched::Picture{*picture, false};
  log.push_back({StageKind::read, request.read.key, static_cast<float>(times.read_ms),
                 static_cast<float>(times.read_ms), request.read.owner});
  log.back().ended_ms = now_ms() - times.decode_ms;
  if (times.decoded == 0 && !(*picture)->decoded()) return Fetched::Picture{*picture, true};
  // Reading and decoding take turns; in the log all reading comes first. Waiting for a decoder's own threads is no time
  // that the outside took, unless it is more than they worked.
  const bool by_threads = times.threads > 1;
  const double wall = times.decode_ms, own = by_threads ? std::min(wall, times.work_ms + times.decode_cpu_ms) : times.decode_cpu_ms;
  log.push_back({StageKind::decode, request.decode.key, static_cast<float>(wall), static_cast<float>(own),
                 request.decode.owner, gauge_around()});
  log.back().ended_ms = now_ms();
  if (by_threads || backwards) log.back().work_ms = static_cast<float>(each * latest.work_of_one_ms());
  return Fetched::Picture{*picture, true};
}

Fetched Decoders::fetch(const Program& program, FrameRecipe recipe, const SealLookup* seals, StageLog& log) {
  std::unique_lock lock(mutex_);
  ++frames_;
  Fetched f;
  for (bool again = true; again;) {
    again = false;
    f.pictures.clear(), by_use_.clear();
    f.decodes_between = false;
    for (const DecodeRequest& request : recipe.requests) {
      if (request.offline) {
        f.pictures.push_back({});
        continue;
      }
      auto picture = take(request, f, log, lock);
      if (picture) {
        f.pictures.push_back(std::move(*picture));
        continue;
      }
      f.trouble.push_back(picture.error().text());
      if (request.rendered) {
        // Rendered media that cannot be read are worth nothing; the live frame is always the truth.
        seals->report_broken({request.path, request.frame});
        recipe = program.recipe(recipe.frame, nullptr);
        again = true;
        break;
      }
      f.pictures.push_back({});
    }
  }
  // Of several frames that a reader read for one, all but one are neighbours that nobody left behind.
  for (const auto& [use, sums] : by_use_)
    f.turn_ms += sums.first.first / sums.second, f.beside_ms += sums.first.second / sums.second;
  f.recipe = std::move(recipe);
  return f;
}

std::optional<Decoded> decode(const Fetched& fetched, const SealLookup* seals, StageLog& log) {
  Decoded d;
  d.recipe = fetched.recipe, d.trouble = fetched.trouble;
  std::unordered_map<Hash128, std::pair<double, int>> by_use;
  for (std::size_t i = 0; i < fetched.pictures.size(); ++i) {
    const DecodeRequest& request = d.recipe.requests[i];
    const Fetched::Picture& p = fetched.pictures[i];
    d.index[request.name] = i;
    d.pictures.push_back(nullptr);
    if (!p.coded) continue;
    ReadTimes t;
    const DoingScope says(words_of(request.decode), d.recipe.frame);
    auto frame = p.coded->get(&t);
    d.waited_ms += t.waited_ms;
    const double ended = now_ms();
    if (!p.read_here) {
      log.push_back({StageKind::read, request.read.key, static_cast<float>(t.read_ms), static_cast<float>(t.read_ms),
                     request.read.owner});
      log.back().ended_ms = ended - t.decode_ms - t.fields_ms;
    }
    if (t.decoded > 0 || !p.read_here) {
      log.push_back({StageKind::decode, request.decode.key, static_cast<float>(t.decode_ms),
                     static_cast<float>(t.decode_cpu_ms), request.decode.owner, gauge_around()});
      log.back().ended_ms = ended - t.fields_ms;
    }
    if (request.fields) {
      log.push_back({StageKind::decode, request.fields->key, static_cast<float>(t.fields_ms),
                     static_cast<float>(t.fields_cpu_ms), request.fields->owner, gauge_around()});
      log.back().ended_ms = ended;
    }
    if (t.decoded > 0) {
      auto& [sum, pictures] = by_use[request.use];
      sum += t.decode_ms, pictures += t.decoded;
    }
    if (frame) {
      d.pictures.back() = std::move(*frame);
      continue;
    }
    if (request.rendered && seals) {
      seals->report_broken({request.path, request.frame});
      return std::nullopt;
    }
    d.trouble.push_back(frame.error().text());
  }
  for (const auto& [use, sum] : by_use)
    d.one_ms += sum.first / sum.second, d.further_ms += sum.first * (sum.second - 1) / sum.second;
  return d;
}

Decoded fetch_and_decode(const Program& program, Frames frame, const SealLookup* seals, Decoders& decoders,
                         StageLog& log) {
  if (auto d = decode(decoders.fetch(program, program.recipe(frame, seals), seals, log), seals, log)) return std::move(*d);
  return *decode(decoders.fetch(program, program.recipe(frame, nullptr), nullptr, log), nullptr, log);
}

}  // namespace gc
