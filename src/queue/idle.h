// Whether somebody is using this machine.
#pragma once

namespace gc {

/// Seconds since a key was pressed or the mouse moved anywhere it can be known: on the X display that DISPLAY names, and on
/// terminals of this machine. Very large where nothing can be known.
double seconds_without_input();

/// False on battery; true where there is none.
bool on_mains();

/// Share of the last ten seconds in which some process waited for memory (the kernel's pressure stall information), 0…1; 0
/// where the kernel does not say.
double memory_stalled();

}  // namespace gc
