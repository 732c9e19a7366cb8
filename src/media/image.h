// Pictures in flight: RGBA, float 32, premultiplied, in the timeline's working colour space.
#pragma once
#include <cstddef>
#include <cstdint>
#include <memory>
#include <vector>

namespace gc {

/// Gives an image's memory back to the pool.
struct PoolReturn {
  std::size_t bytes = 0;
  void operator()(float* p) const;
};

/// Width × height pixels, 4 floats each, rows without padding, 64-byte aligned. Movable only; its memory
/// returns to a pool, so that steady playback allocates nothing.
class Image {
 public:
  Image() = default;
  /// Contents are whatever the pool's memory held.
  Image(int width, int height);
  static Image filled(int width, int height, float r, float g, float b, float a);

  int width() const { return width_; }
  int height() const { return height_; }
  bool empty() const { return !data_; }
  std::size_t floats() const {
    return static_cast<std::size_t>(width_) * static_cast<std::size_t>(height_) * 4;
  }
  float* data() { return data_.get(); }
  const float* data() const { return data_.get(); }
  float* row(int y) {
    return data_.get() + static_cast<std::size_t>(y) * static_cast<std::size_t>(width_) * 4;
  }
  const float* row(int y) const {
    return data_.get() + static_cast<std::size_t>(y) * static_cast<std::size_t>(width_) * 4;
  }
  Image copy() const;

  bool opaque = true;     ///< every alpha is 1
  bool stand_in = false;  ///< bars stand for some of it; not passed on by copies and effects

 private:
  std::unique_ptr<float[], PoolReturn> data_;
  int width_ = 0, height_ = 0;
};

/// 8-bit picture for a screen: BGRA in memory order, opaque.
struct ScreenImage {
  int width = 0, height = 0;
  std::vector<std::uint8_t> bgra;
};

/// Clamps to 0…1, rounds to 8 bits, over black.
void to_screen(const Image& image, ScreenImage& out);

/// `over` onto an opaque or transparent canvas of the same size: canvas = layer × opacity + canvas × (1 −
/// layer alpha × opacity). Porter and Duff (1984), premultiplied.
void composite_over(Image& canvas, const Image& layer, float opacity);

/// a × (1 − mix) + b × mix, into a. Both the same size.
void dissolve(Image& a, const Image& b, float mix);

}  // namespace gc
