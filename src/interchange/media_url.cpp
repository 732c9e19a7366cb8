#include "interchange/media_url.h"

#include <fmt/format.h>

#include <cctype>

namespace gc {
namespace {

namespace fs = std::filesystem;

int hex(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'a' && c <= 'f') return c - 'a' + 10;
  if (c >= 'A' && c <= 'F') return c - 'A' + 10;
  return -1;
}

bool is_drive(const std::string& p) {
  return p.size() > 1 && std::isalpha(static_cast<unsigned char>(p[0])) && (p[1] == ':' || p[1] == '|') &&
         (p.size() == 2 || p[2] == '/' || p[2] == '\\');
}

MediaPath windows(const std::string& url) {
  return {"", fmt::format("'{}' is a path on another system; relink it to where the file is here.", url)};
}

std::string plain(const fs::path& p) { return p.lexically_normal().string(); }

bool is_there(const fs::path& p) {
  std::error_code e;
  return fs::exists(p, e);
}

/// What follows "file:".
MediaPath of_file_url(const std::string& url, std::string rest) {
  if (rest.starts_with("//")) {
    const auto slash = rest.find('/', 2);
    const std::string host = rest.substr(2, slash == std::string::npos ? std::string::npos : slash - 2);
    if (is_drive(host)) return windows(url);  // file://C:/…
    if (!host.empty() && host != "localhost" && host != "127.0.0.1")
      return {"", fmt::format("'{}' is on the network share of '{}'; relink it to where that is mounted here.", url,
                              host)};
    rest = slash == std::string::npos ? "" : rest.substr(slash);
  }
  const std::string path = percent_decoded(rest);
  if (path.size() > 1 && path[0] == '/' && is_drive(path.substr(1))) return windows(url);
  if (path.starts_with("//") || path.starts_with("\\\\")) return windows(url);
  if (path.empty() || path[0] != '/') return {"", fmt::format("'{}' names no file.", url)};
  // Not everyone encodes what they write.
  if (!is_there(path) && is_there(rest)) return {plain(rest), ""};
  return {plain(path), ""};
}

}  // namespace

std::string percent_decoded(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '%' && i + 2 < text.size() && hex(text[i + 1]) >= 0 && hex(text[i + 2]) >= 0) {
      const int c = hex(text[i + 1]) * 16 + hex(text[i + 2]);
      if (c != 0) {
        out += static_cast<char>(c), i += 2;
        continue;
      }
    }
    out += text[i];
  }
  return out;
}

MediaPath path_of_url(const std::string& url, const fs::path& folder) {
  if (url.empty()) return {"", "It names no file."};
  if (url.find('\0') != std::string::npos) return {"", "Its file name holds a zero byte."};
  std::string scheme = url.substr(0, url.find(':'));
  for (char& c : scheme) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  if (scheme == "file" && url.size() > 5 && url[4] == ':') return of_file_url(url, url.substr(5));
  if (is_drive(url) || url.starts_with("\\\\")) return windows(url);
  if (url.find("://") != std::string::npos && url.find("://") == url.find(':'))
    return {"", fmt::format("'{}' is no local file; only those are opened. Copy it here and relink.", url)};
  const auto under = [&](const std::string& p) { return fs::path(p).is_relative() ? folder / p : fs::path(p); };
  const std::string decoded = percent_decoded(url);
  if (decoded != url && !is_there(under(url))) return {plain(under(decoded)), ""};
  return {plain(under(url)), ""};
}

std::string url_of_path(const std::string& path) {
  std::string url = "file://";
  for (const char c : path) {
    const auto u = static_cast<unsigned char>(c);
    if (std::isalnum(u) || std::string_view("/-._~!$&'()*+,;=:@").find(c) != std::string_view::npos) url += c;
    else url += fmt::format("%{:02X}", u);
  }
  return url;
}

}  // namespace gc
