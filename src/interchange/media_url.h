// From what a timeline calls its media to a path on this machine, and back. RFC 3986 and RFC 8089.
#pragma once
#include <filesystem>
#include <string>

namespace gc {

struct MediaPath {
  std::string path;    ///< absolute and plain; empty when it cannot be one of this machine
  std::string remark;  ///< why not, or what was assumed; a sentence
};

/// Absolute paths, paths from `folder`, and file: URLs in every form ("file:///a", "file://localhost/a", "file:/a"),
/// with or without percent-encoding: of a relative one both readings are tried, the file that is there counts.
/// Windows drives, network shares and other schemes are no paths here.
MediaPath path_of_url(const std::string& url, const std::filesystem::path& folder);

/// A file: URL of an absolute path.
std::string url_of_path(const std::string& path);

/// "%20" as a space; a '%' that begins no code stays.
std::string percent_decoded(const std::string& text);

}  // namespace gc
