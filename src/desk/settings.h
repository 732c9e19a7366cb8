// What a person has chosen for this seat. Kept as JSON in the configuration folder; a file that cannot be
// read is left as it is and the usual values hold.
#pragma once
#include "base/files.h"
#include "render/program.h"

namespace gc {

struct Settings {
  Device playback = Device::processor;   ///< where effects run in playback
  Device rendering = Device::processor;  ///< and in rendering
  bool half = false;                     ///< precision of processing in playback
  bool draft = false;                    ///< scaling quality in playback
  bool join_fields = true;               ///< interlaced media are made progressive, in playback and delivery
  int scale = 1;                         ///< playback scale, 1, 2, 4, 8 or 16
  double memory_left_gb = 4;             ///< to other programs
  std::optional<Region> region;          ///< the only pixels that playback makes
  double preroll_s = 2, postroll_s = 3;  ///< played before and after the playhead when asked to
  Form render_form = Form::vc3_hqx;      ///< in which rendered media are kept
  double missed_drop_cost = 9;           ///< how many needless renders a drop before the client is as bad as
  std::vector<std::string> muted;        ///< causes (cause_name) that no warning is given for after a playout

  RenderOptions playback_options() const;
};

fs::path settings_file();
Settings load_settings(const fs::path& file = settings_file());
Result<void> save_settings(const Settings& settings, const fs::path& file = settings_file());

/// Sets one by its name and a word: "playback accelerator", "scale 2", ... Errors say what may be given.
Result<void> set_setting(Settings& settings, const std::string& name, const std::string& value);
Json to_json(const Settings& settings);

}  // namespace gc
