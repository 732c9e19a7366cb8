// Makes what a remedy needs.
#pragma once
#include "queue/prerender.h"
#include "remedy/remedy.h"

namespace gc {

/// Segments whose stacks are meant, each with how many of its effects.
std::vector<std::pair<std::string, std::size_t>> stacks_in(const Situation& s, const Subject& subject);

/// Renders everything that the making names and the shelf has not. What is finished stays, whatever happens.
Result<PrerenderReport> carry_out(const Situation& s, const Making& making, Shelf& shelf, const PrerenderOptions& options,
                                  const std::function<bool(const PrerenderProgress&)>& progress);

}  // namespace gc
