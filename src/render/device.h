// The accelerator as this process sees it: OpenCL through OpenCV. Where none is built in, PoCL stands in for
// one on the processor.
#pragma once
#include <string>

namespace gc {

/// Whether there is an accelerator that works; looked at once.
bool accelerator_available();
/// Its name as its driver gives it; empty when there is none.
std::string accelerator_name();

/// Whether an effect may be sent there now. A device that failed is not asked again in this run of the
/// program.
bool accelerator_working();
/// Notes that the device failed, from any thread.
void accelerator_failed();
/// For tests and drills: the device fails at its n-th effect from now (0: never), and works again afterwards.
void break_accelerator_after(int effects);
/// Called for each effect that is sent; true when the drill says that it fails.
bool accelerator_drill();

}  // namespace gc
