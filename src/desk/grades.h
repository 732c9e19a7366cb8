// Grades in files of their own (ASC CDL), and media that lists name.
#pragma once
#include "desk/desk.h"
#include "interchange/edl.h"

namespace gc {

/// Grades of a .ccc, .cc or .cdl file.
Result<std::vector<Grade>> read_grades(const fs::path& file);
/// A .ccc file: a collection of grades, each with the id of what it is of.
Result<void> write_grades(const std::vector<Grade>& grades, const fs::path& file);

struct GradesTaken {
  TimelinePtr timeline;
  std::vector<std::string> segments;  ///< ids of those that were graded
  std::vector<std::string> unused;    ///< ids of grades that are of nothing here
};
/// Each segment gets the grade whose id is its name, its source's name, or either without its extension.
GradesTaken with_grades(const TimelinePtr& timeline, const std::vector<Grade>& grades);

/// Looks in a folder and everything in it for what a list names: a source file, a clip, a reel.
std::function<std::optional<EdlOptions::Medium>(const std::string&, const std::string&, const std::string&)> media_finder(const fs::path& folder, Rate rate);

}  // namespace gc
