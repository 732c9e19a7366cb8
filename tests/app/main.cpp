// The window's tests, with folders of their own.
#include <gtest/gtest.h>

#include <QStandardPaths>
#include <QTemporaryDir>

#include "app/application.h"
#include "app/style.h"
#include "environment.h"

int main(int argc, char** argv) {
  testing::InitGoogleTest(&argc, argv);
  // What is measured here stays out of the person's own folders.
  const QTemporaryDir data;
  qputenv("XDG_DATA_HOME", data.path().toUtf8());
  QStandardPaths::setTestModeEnabled(true);
  QApplication::setOrganizationName("glass-clock-test");
  QApplication::setApplicationName("glass-clock-test");
  gc::Application application(argc, argv);
  gc::environment_at_start() = gc::environment();
  gc::look::apply(application);
  return RUN_ALL_TESTS();
}
