// What a person is asked about a timeline's files and what it is counted in.
#pragma once
#include "app/session.h"

class QWidget;

namespace gc {

/// Asks for a folder and looks for missing media in it.
void ask_where_media_are(QWidget* parent, Session& session);

/// Asks for raster, rate and how timecode is counted.
void ask_raster_and_rate(QWidget* parent, Session& session);

}  // namespace gc
