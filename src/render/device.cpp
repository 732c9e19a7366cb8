#include "render/device.h"

#include <atomic>
#include <cstdlib>
#include <opencv2/core/ocl.hpp>

namespace gc {
namespace {

std::atomic<bool> failed{false};
std::atomic<int> drill{0};

const cv::ocl::Device* device() {
  static const cv::ocl::Device* d = []() -> const cv::ocl::Device* {
    try {
      // Without a word OpenCV takes graphics processors only; any device is welcome here, graphics first.
      ::setenv("OPENCV_OPENCL_DEVICE", "::", 0);
      if (!cv::ocl::haveOpenCL()) return nullptr;
      cv::ocl::setUseOpenCL(true);
      if (!cv::ocl::useOpenCL()) return nullptr;
      const cv::ocl::Device& found = cv::ocl::Device::getDefault();
      return found.available() ? &found : nullptr;
    } catch (const cv::Exception&) {
      return nullptr;
    }
  }();
  return d;
}

}  // namespace

bool accelerator_available() { return device() != nullptr; }
std::string accelerator_name() { return device() ? device()->name() : std::string(); }
bool accelerator_working() { return accelerator_available() && !failed; }
void accelerator_failed() { failed = true; }
void break_accelerator_after(int effects) {
  drill = effects;
  failed = false;
}
bool accelerator_drill() { return drill > 0 && --drill == 0; }

}  // namespace gc
