// Whether somebody is using this machine.
#pragma once

namespace gc {

/// Seconds since a key was pressed or the mouse moved anywhere it can be known: on the X display that DISPLAY names, and on
/// terminals of this machine. Very large where nothing can be known.
double seconds_without_input();

/// False on battery; true where there is none.
bool on_mains();

}  // namespace gc
