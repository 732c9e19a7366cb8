// What other programs lay over a cut: pictures in pictures, titles, generators, mattes, blends, adjustments, keys, nests,
// retimes and every effect. All of it in the lower half of the raster, so that the numbers of the cut stay readable.
#pragma once
#include "audit/foreign_files.h"
#include "base/json.h"
#include "base/rational.h"

namespace gc {

struct ForeignLayers {
  Json tracks = Json::array();  ///< of an interchange document, lowest first; they belong above the cut
  Json shows = Json::array();   ///< as in shows.json: numbers of pictures that nothing changes
};

/// What the cut is that they are laid over.
struct ForeignCut {
  Frames length = 0;
  int width = 0, height = 0;
  Rate rate;
  std::string lut;  ///< a file for effects that need one; absolute
};

/// The same seed and files give the same layers; six seeds in a row have every effect and every kind of layer.
ForeignLayers foreign_layers(const std::vector<ForeignFile>& files, const ForeignCut& cut, std::uint64_t seed);

/// An effect as a document holds it, of parameters that leave black black and white white. Any index.
Json gentle_effect(std::size_t index);

}  // namespace gc
