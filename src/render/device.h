// The accelerator as this process sees it: OpenCL through OpenCV. Where none is built in, PoCL stands in for
// one on the processor.
#pragma once
#include <string>

namespace gc {

/// Whether there is an accelerator that works; looked at once. Its drivers change the program's environment as they start,
/// and a thread that reads it meanwhile crashes (setenv(3) and getenv(3) are not safe together). So a program asks this
/// before it has other threads, a window before its QApplication, which starts one for the desktop's messages.
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
