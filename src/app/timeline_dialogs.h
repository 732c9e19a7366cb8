// What a person is asked about a timeline's files and what it is counted in.
#pragma once
#include "app/session.h"

class QWidget;

namespace gc {

/// Asks for a folder and looks for missing media in it.
void ask_where_media_are(QWidget* parent, Session& session);

/// Shows what was found for which medium, and takes it when that is agreed to.
void show_media_found(QWidget* parent, Session& session, const QString& folder, bool mirrored, const RelinkReport& report);

/// Asks who accepts these for the delivery as they are, and why.
void ask_who_accepts(QWidget* parent, Session& session, const std::vector<GateItem>& items);

/// Asks for a file, and opens a segment's angles side by side as a timeline in it.
void ask_where_angles_go(QWidget* parent, Session& session, const std::string& segment);

/// Asks for raster, rate and how timecode is counted.
void ask_raster_and_rate(QWidget* parent, Session& session);

}  // namespace gc
