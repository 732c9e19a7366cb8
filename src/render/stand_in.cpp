#include "render/stand_in.h"

#include <algorithm>

namespace gc {

Image unseen_picture(int width, int height) {
  Image image = Image::filled(width, height, 0.06f, 0.06f, 0.06f, 1);
  // A dashed outline, as the skyline draws what is unseen.
  const int inset = std::max(2, height / 12), thick = std::max(1, height / 180),
            dash = std::max(4, height / 24);
  for (int y = inset; y < height - inset; ++y)
    for (int x = inset; x < width - inset; ++x) {
      const bool across = y < inset + thick || y >= height - inset - thick,
                 down = x < inset + thick || x >= width - inset - thick;
      if ((across && x / dash % 2 == 0) || (down && y / dash % 2 == 0)) {
        float* p = image.row(y) + 4 * x;
        p[0] = p[1] = p[2] = 0.55f;
      }
    }
  return image;
}

Image hatched(int width, int height) {
  Image image(width, height);
  for (int y = 0; y < height; ++y) {
    float* p = image.row(y);
    for (int x = 0; x < width; ++x, p += 4) {
      const float v = ((x + y) / 24) % 2 ? 0.10f : 0.24f;
      p[0] = p[1] = p[2] = v;
      p[3] = 1;
    }
  }
  return image;
}

}  // namespace gc
