#include "demo/scaling.h"

#include <algorithm>
#include <cmath>

#include "measure/measure.h"

namespace gc::kiln {
namespace {

/// A source with a stack on it, to be looked at for a moment: what its frames take here, run flat out.
class Look {
 public:
  Look(const fs::path& file, const SourcePlan& plan, const DemoOptions& o, std::vector<Effect> stack)
      : length_(plan.frames) {
    auto t = std::make_shared<Timeline>();
    t->width = o.width, t->height = o.height;
    auto m = std::make_shared<MediaSource>();
    m->id = "m", m->path = file.string(), m->length = plan.frames;
    t->sources["m"] = m;
    auto s = std::make_shared<Segment>();
    s->id = "s", s->ref = "m", s->duration = plan.frames, s->stack = std::move(stack);
    auto track = std::make_shared<Track>();
    track->items.push_back(SegmentPtr(s));
    t->tracks.push_back(track);
    MediaCatalog media;
    program_ = Program::compile(t, media);
  }
  /// Some frames, from another place each time. Not the first ones, which find the pipeline half empty.
  void again() {
    const int workers = default_workers();
    std::vector<Frames> frames;
    for (Frames f = 0; f < 4 + 2 * workers; ++f) frames.push_back((from_ + f) % length_);
    from_ += 40;
    const std::vector<FrameResult> results = run_flat_out(program_, nullptr, std::move(frames), workers);
    std::vector<float> work;
    for (std::size_t i = static_cast<std::size_t>(workers); i < results.size(); ++i)
      work.push_back(static_cast<float>(own_work_ms(results[i])));
    looks_.push_back(static_cast<float>(median_of(work).median));
  }
  /// A frame's whole work, ms: the middle one of the looks, so that one slow moment does not count.
  double ms() const { return median_of(looks_).median; }

 private:
  ProgramPtr program_;
  Frames length_, from_ = 0;
  std::vector<float> looks_;
};

/// Looks at all of them in turn, several times over: a slow second is one look of each at most.
void look_at(std::vector<Look>& all, int times = 3) {
  for (int i = 0; i < times; ++i)
    for (Look& l : all) l.again();
}

/// Effects that bring a graded segment to the target load here. Noise reduction takes the larger part and a
/// small blur the rest, or blur alone.
std::vector<Effect> heavy(const std::string& id, const SegmentPlan& plan, const Laws& laws) {
  const double wanted = plan.target * budget_of_all() - laws.base;
  std::vector<Effect> stack;
  double left = wanted;
  if (!plan.soft) {
    int radius = 0;
    for (int r = 1; r < 16; ++r)
      if (laws.nr[r] + laws.blur_fixed <= wanted) radius = r;
    if (radius > 0) stack.push_back(noise_reduction(id + "-clean", radius)), left -= laws.nr[radius];
  }
  const double sigma = std::clamp((left - laws.blur_fixed) / laws.blur_px, 0.0, 60.0);
  if (sigma >= 0.2) stack.push_back(blur(id + "-soft", std::round(sigma * 100) / 100));
  return stack;
}

}  // namespace

Laws learn(const fs::path& folder, const DemoOptions& o) {
  const SourcePlan& s = kSources[0];
  const fs::path file = source_file(folder, s);
  std::vector<Look> looks;
  looks.emplace_back(file, s, o, std::vector<Effect>{grade("g")});
  for (const int radius : {2, 4})
    looks.emplace_back(file, s, o, std::vector<Effect>{grade("g"), noise_reduction("n", radius)});
  for (const double sigma : {4.0, 14.0})
    looks.emplace_back(file, s, o, std::vector<Effect>{grade("g"), blur("b", sigma)});
  look_at(looks);
  Laws l;
  l.base = looks[0].ms();
  const double two = looks[1].ms() - l.base, four = looks[2].ms() - l.base;
  // The filter's taps lie in a disc: cost grows with the square of the radius.
  const double slope = std::max(0.05, (four - two) / (16 - 4));
  for (int r = 1; r < 16; ++r) l.nr[r] = std::max(0.5, two + slope * (r * r - 4));
  const double small = looks[3].ms() - l.base, large = looks[4].ms() - l.base;
  l.blur_px = std::max(0.05, (large - small) / 10);
  l.blur_fixed = std::max(0.0, small - 4 * l.blur_px);
  return l;
}

double own_work_ms(const FrameResult& r) {
  double waited = 0;
  for (const StageSample& s : r.stages)
    if (!s.by_wall) waited += static_cast<double>(std::max(0.0f, s.wall_ms - s.cpu_ms));
  return r.done_ms - r.fetch_began_ms - waited;
}

double budget_of_all() { return default_workers() * (1000.0 / 24); }

HeavyStacks settle(const fs::path& folder, const DemoOptions& o, const Laws& laws, std::vector<std::pair<std::string, double>>& settled) {
  HeavyStacks stacks;
  std::vector<const SegmentPlan*> plans;
  for (const SegmentPlan& p : kMain)
    if (p.target > 0) plans.push_back(&p);
  plans.push_back(&kShelf);
  for (const SegmentPlan* p : plans) stacks[p] = heavy("", *p, laws);
  const auto looks = [&] {
    std::vector<Look> all;
    for (const SegmentPlan* p : plans) {
      const SourcePlan& source = kSources[p->source];
      std::vector<Effect> stack = stacks[p];
      if (p->graded) stack.insert(p->soft ? stack.begin() : stack.end(), grade("g"));
      all.emplace_back(source_file(folder, source), source, o, std::move(stack));
    }
    return all;
  };
  std::vector<Look> first = looks();
  look_at(first);
  for (std::size_t i = 0; i < plans.size(); ++i) {
    const double off = plans[i]->target * budget_of_all() - first[i].ms();
    if (std::abs(off) < 0.03 * first[i].ms()) continue;
    bool has_blur = false;
    for (Effect& e : stacks[plans[i]])
      if (e.type == "blur") {
        const double sigma = e.params["sigma"].get<double>() + off / laws.blur_px;
        e.params["sigma"] = std::clamp(std::round(sigma * 100) / 100, 0.0, 60.0), has_blur = true;
      }
    const double sigma = (off - laws.blur_fixed) / laws.blur_px;
    if (!has_blur && sigma >= 0.2) stacks[plans[i]].push_back(blur("-soft", std::round(sigma * 100) / 100));
  }
  std::vector<Look> checked = looks();
  look_at(checked, 2);
  for (std::size_t i = 0; i < plans.size(); ++i)
    settled.emplace_back(plans[i]->name, checked[i].ms() / budget_of_all());
  return stacks;
}

}  // namespace gc::kiln
