// Pictures that stand for what cannot be shown.
#pragma once
#include "media/image.h"

namespace gc {

/// The picture of something that cannot be shown live: an empty frame with a dashed outline.
Image unseen_picture(int width, int height);

/// The picture of something offline: diagonal bars that no camera makes.
Image hatched(int width, int height);

}  // namespace gc
