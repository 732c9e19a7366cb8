// The memory cache.
#include "render/cache.h"

#include <atomic>
#include <future>
#include <thread>

#include "support.h"

namespace gc {
namespace {

constexpr std::size_t kPicture = 64 * 64 * 16;
Hash128 key(int n) { return Hasher().add(static_cast<std::int64_t>(n)).done(); }
MemoryCache::Picture picture(float v) {
  return std::make_shared<const Image>(Image::filled(64, 64, v, v, v, 1));
}

TEST(MemoryCache, StaysWithinItsBudget) {
  MemoryCache cache(5 * kPicture);
  for (int i = 0; i < 100; ++i) cache.offer(key(i), picture(0), 50);
  EXPECT_LE(cache.stats().bytes, 5 * kPicture);
  EXPECT_EQ(cache.stats().pictures, 5u);
  EXPECT_EQ(cache.stats().evicted, 95u);
}

// GreedyDual-Size (Cao and Irani, 1997): of equal sizes the cheapest goes first.
TEST(MemoryCache, LetsTheCheapestGoFirst) {
  MemoryCache cache(3 * kPicture);
  cache.offer(key(1), picture(1), 500);
  cache.offer(key(2), picture(2), 20);
  cache.offer(key(3), picture(3), 300);
  cache.offer(key(4), picture(4), 100);
  EXPECT_TRUE(cache.find(key(1)));
  EXPECT_FALSE(cache.find(key(2)));
  EXPECT_TRUE(cache.find(key(3)));
  EXPECT_TRUE(cache.find(key(4)));
}

TEST(MemoryCache, WhatIsDearButLongUnusedGoesInTheEnd) {
  MemoryCache cache(3 * kPicture);
  cache.offer(key(0), picture(0), 500);
  for (int i = 1; i < 200; ++i) cache.offer(key(i), picture(0), 100);
  EXPECT_FALSE(cache.find(key(0)));
}

TEST(MemoryCache, DoesNotKeepWhatIsCheaperToMakeThanToKeep) {
  MemoryCache cache(100 * kPicture);
  cache.offer(key(1), picture(0), 0.001);
  EXPECT_FALSE(cache.find(key(1)));
  EXPECT_EQ(cache.stats().not_kept, 1u);
}

TEST(MemoryCache, MakesAPictureOnceHoweverManyAskForIt) {
  MemoryCache cache(10 * kPicture);
  std::atomic<int> made{0};
  std::vector<std::thread> threads;
  for (int i = 0; i < 4; ++i)
    threads.emplace_back([&] {
      for (int n = 0; n < 20; ++n)
        EXPECT_EQ(cache
                      .get(key(n % 5),
                           [&] {
                             ++made;
                             std::this_thread::sleep_for(std::chrono::milliseconds(2));
                             return Image::filled(64, 64, static_cast<float>(n % 5), 0, 0, 1);
                           })
                      ->data()[0],
                  static_cast<float>(n % 5));
    });
  for (std::thread& t : threads) t.join();
  EXPECT_EQ(made, 5);
}

// Two frames side by side that want the same neighbour: who finds it in work has other things to make first.
TEST(MemoryCache, SaysAtOnceThatAnotherThreadMakesAPicture) {
  MemoryCache cache(10 * kPicture);
  std::promise<void> begun, go_on;
  std::thread other([&] {
    cache.get(key(1), [&] {
      begun.set_value();
      go_on.get_future().wait();
      return Image::filled(64, 64, 1, 0, 0, 1);
    });
  });
  begun.get_future().wait();
  const auto never = [] {
    ADD_FAILURE() << "it is in work";
    return Image::filled(64, 64, 0, 0, 0, 1);
  };
  EXPECT_EQ(cache.get_unless_busy(key(1), never), nullptr);
  EXPECT_FALSE(cache.has(key(1)));
  EXPECT_EQ(cache.get_unless_busy(key(2), [] { return Image::filled(64, 64, 2, 0, 0, 1); })->data()[0], 2);
  go_on.set_value();
  other.join();
  EXPECT_TRUE(cache.has(key(1)));
  EXPECT_EQ(cache.get_unless_busy(key(1), never)->data()[0], 1);
}

TEST(MemoryCache, AFailedMakingIsNoPictureAndBlocksNobody) {
  MemoryCache cache(10 * kPicture);
  EXPECT_THROW(cache.get(key(1), []() -> Image { throw std::bad_alloc(); }), std::bad_alloc);
  EXPECT_TRUE(cache.get(key(1), [] { return Image::filled(8, 8, 0, 0, 0, 1); }));
}

// Common practice, no source: 3 to 12 GB are left to other programs.
TEST(MemoryCache, ItsBudgetLeavesOtherProgramsTheirShare) {
  constexpr std::uint64_t kGb = std::uint64_t{1} << 30;
  EXPECT_EQ(cache_budget(32 * kGb, 20 * kGb, 6 * kGb), 14 * kGb);
  EXPECT_EQ(cache_budget(32 * kGb, 30 * kGb, 4 * kGb), 16 * kGb) << "never more than half of all";
  EXPECT_EQ(cache_budget(8 * kGb, 2 * kGb, 4 * kGb), kGb / 4) << "and never less than 256 MB";
}

TEST(MemoryCache, AnswersFramesThatWereMadeBefore) {
  MediaCatalog media;
  test::Build b;
  b.track("V1").generator("n", "fractal_noise", 12, {{"octaves", 6}}, {test::blur("b", 6)});
  const ProgramPtr p = Program::compile(b.done(), media);
  const auto cache = std::make_shared<MemoryCache>(std::size_t{64} << 20);
  const auto play = [&] {
    std::mutex mutex;
    std::condition_variable all;
    std::vector<FrameResult> results;
    PipelineOptions o;
    o.workers = 2, o.horizon = 20, o.keep_image = true, o.cache = cache, o.keep_frames = true;
    Pipeline pipeline(p, nullptr, o, {0, 1, 2, 3, 4, 5}, [&](FrameResult&& r) {
      const std::lock_guard lock(mutex);
      results.push_back(std::move(r));
      all.notify_all();
    });
    std::unique_lock lock(mutex);
    all.wait(lock, [&] { return results.size() == 6; });
    return results;
  };
  const auto first = play(), second = play();
  EXPECT_TRUE(std::none_of(first.begin(), first.end(), [](const FrameResult& r) { return r.state == FrameState::remembered; }));
  EXPECT_TRUE(std::all_of(second.begin(), second.end(), [](const FrameResult& r) { return r.state == FrameState::remembered; }));
  for (const FrameResult& a : first)
    for (const FrameResult& r : second)
      if (r.frame == a.frame) EXPECT_EQ(test::greatest_difference(a.image, r.image), 0);
}

}  // namespace
}  // namespace gc
