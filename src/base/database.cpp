#include "base/database.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

namespace gc {

Statement& Statement::bind(std::int64_t v) {
  code_ = sqlite3_bind_int64(get(), next_++, v);
  return *this;
}
Statement& Statement::bind(double v) {
  code_ = sqlite3_bind_double(get(), next_++, v);
  return *this;
}
Statement& Statement::bind(std::string_view v) {
  code_ = sqlite3_bind_text(get(), next_++, v.data(), static_cast<int>(v.size()), SQLITE_TRANSIENT);
  return *this;
}
Statement& Statement::blob(std::string_view v) {
  code_ = sqlite3_bind_blob(get(), next_++, v.data(), static_cast<int>(v.size()), SQLITE_TRANSIENT);
  return *this;
}
bool Statement::step() {
  if (!handle_) {
    code_ = SQLITE_ERROR;
    return false;
  }
  code_ = sqlite3_step(get());
  return code_ == SQLITE_ROW;
}
void Statement::rewind() {
  sqlite3_reset(get());
  next_ = 1;
}
std::string Statement::text(int column) const {
  const void* p = sqlite3_column_blob(get(), column);
  return p ? std::string(static_cast<const char*>(p),
                         static_cast<std::size_t>(sqlite3_column_bytes(get(), column)))
           : std::string();
}

Result<void> Statement::run() {
  step();
  const bool done = ok();
  const std::string why = done ? "" : sqlite3_errmsg(db_.get());
  if (handle_) rewind();
  if (done) return {};
  const char* file = sqlite3_db_filename(db_.get(), "main");
  return environment("the database refused a change: " + why, file ? file : "",
                     "Check free space and permissions; earlier records are intact.");
}

namespace {

/// The version that a file says it has.
Result<std::int64_t> version_of(const Database& d, const char* what) {
  Statement ask = d.prepare("PRAGMA user_version");
  if (ask.step()) return ask.integer(0);
  return bad_input(fmt::format("is not a readable {}: {}", what, d.message()), d.path().string(),
                   "Move the file away; a new one is made at the next start.");
}

/// A connection to the file, by SQLite's flags. It waits up to 5 s for other processes.
Result<std::shared_ptr<sqlite3>> connect(const std::filesystem::path& path, int flags, const char* what) {
  sqlite3* raw = nullptr;
  const int code = sqlite3_open_v2(path.c_str(), &raw, flags, nullptr);
  std::shared_ptr<sqlite3> db(raw, sqlite3_close_v2);
  if (code != SQLITE_OK)
    return environment(fmt::format("the {} cannot be opened: {}", what, sqlite3_errstr(code)), path.string(),
                       "Check that the folder exists and may be written to.");
  sqlite3_busy_timeout(raw, 5000);
  return db;
}

}  // namespace

Result<Database> Database::open(const std::filesystem::path& path, std::span<const char* const> steps,
                                const char* what) {
  Database d;
  d.path_ = path;
  std::error_code ignored;
  std::filesystem::create_directories(path.parent_path(), ignored);
  auto connected = connect(path, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_FULLMUTEX, what);
  if (!connected) return std::unexpected(connected.error());
  d.db_ = *connected;
  const auto version = static_cast<std::int64_t>(steps.size());
  const auto found = version_of(d, what);
  if (!found) return std::unexpected(found.error());
  if (*found > version)
    return bad_input(fmt::format("the {} was written by a newer version (format {}, this program reads {})",
                                 what, *found, version),
                     path.string(),
                     "Update the program, or move the file away to start a new one. It was not changed.");
  if (auto r = d.run("PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;"); !r)
    return std::unexpected(r.error());
  if (*found < version) {
    const auto brought = d.change([&]() -> Result<void> {
      // Another program may have brought it up to date in the meantime.
      const auto now = version_of(d, what);
      if (!now) return std::unexpected(now.error());
      for (auto v = static_cast<std::size_t>(std::max<std::int64_t>(0, *now)); v < steps.size(); ++v)
        if (auto r = d.run(steps[v]); !r) return r;
      return d.run(fmt::format("PRAGMA user_version={}", std::max(version, *now)).c_str());
    });
    if (!brought) return std::unexpected(brought.error());
  }
  return d;
}

Result<Database> Database::reader() const {
  auto connected = connect(path_, SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX, "database");
  if (!connected) return std::unexpected(connected.error());
  Database d;
  d.db_ = *connected, d.path_ = path_;
  return d;
}

Result<void> Database::change(const std::function<Result<void>()>& change) const {
  if (auto r = run("BEGIN IMMEDIATE"); !r) return r;
  auto r = change();
  if (r) r = run("COMMIT");
  // A failure may have ended the transaction already.
  if (!r && sqlite3_get_autocommit(db_.get()) == 0)
    sqlite3_exec(db_.get(), "ROLLBACK", nullptr, nullptr, nullptr);
  return r;
}

std::string Database::damage() const {
  Statement s = prepare("PRAGMA integrity_check(1)");
  const std::string said = s.step() ? s.text(0) : message();
  return said == "ok" ? "" : said;
}

Statement Database::prepare(const char* sql) const {
  Statement s;
  sqlite3_stmt* raw = nullptr;
  s.code_ = sqlite3_prepare_v2(db_.get(), sql, -1, &raw, nullptr);
  s.handle_ = std::shared_ptr<sqlite3_stmt>(raw, sqlite3_finalize);
  s.db_ = db_;
  return s;
}

Result<void> Database::run(const char* sql) const {
  if (sqlite3_exec(db_.get(), sql, nullptr, nullptr, nullptr) == SQLITE_OK) return {};
  const std::string why = message();
  return environment("the database refused a change: " + why, path_.string(),
                     "Check free space and permissions; earlier records are intact.");
}

std::vector<float> unpack_floats(const std::string& s) {
  std::vector<float> v(s.size() / sizeof(float));
  if (!v.empty()) std::memcpy(v.data(), s.data(), v.size() * sizeof(float));
  return v;
}

}  // namespace gc
