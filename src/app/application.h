// What every program with a window begins with.
#pragma once
#include <QApplication>

#include "render/device.h"

namespace gc {

/// An accelerator's driver changes the environment as it starts. A QApplication has a thread of its own, for the desktop's
/// messages, that reads it at any time and would crash. So the driver starts first.
struct DriverFirst {
  DriverFirst() { (void)accelerator_available(); }
};

class Application : private DriverFirst, public QApplication {
 public:
  Application(int& argc, char** argv) : QApplication(argc, argv) {}
};

}  // namespace gc
