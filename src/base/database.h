// A thin SQLite handle: WAL, versioned schema, statements that cannot leak, changes in transactions.
#pragma once
#include <sqlite3.h>

#include <filesystem>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"

namespace gc {

class Database;

/// One prepared statement. Parameters are bound in order with `bind`; rows are read with `column_*`.
class Statement {
 public:
  Statement& bind(std::int64_t v);
  Statement& bind(double v);
  Statement& bind(std::string_view v);
  Statement& blob(std::string_view v);
  void rewind();  ///< ready to be bound and run again
  bool step();    ///< true while there is a row; a failure is kept in ok()
  bool ok() const { return code_ == SQLITE_OK || code_ == SQLITE_ROW || code_ == SQLITE_DONE; }
  /// Runs a statement that returns no rows; fails with what SQLite says. It can be bound and run again.
  Result<void> run();
  std::int64_t integer(int column) const { return sqlite3_column_int64(get(), column); }
  double real(int column) const { return sqlite3_column_double(get(), column); }
  std::string text(int column) const;  ///< also reads blobs
  /// A blob as it lies in the row, until the next step.
  std::string_view blob(int column) const {
    const void* data = sqlite3_column_blob(get(), column);
    return {static_cast<const char*>(data), static_cast<std::size_t>(sqlite3_column_bytes(get(), column))};
  }

 private:
  friend class Database;
  sqlite3_stmt* get() const { return handle_.get(); }
  std::shared_ptr<sqlite3_stmt> handle_;
  std::shared_ptr<sqlite3> db_;  ///< outlives the statement, and says what went wrong
  int next_ = 1;
  int code_ = SQLITE_OK;
};

class Database {
 public:
  /// Opens or makes the file. steps[v] brings a file of version v to version v + 1; the steps that a file has
  /// not had are run, all in one transaction, each exactly once. A file from a newer version is refused and
  /// left alone. Waits up to 5 s for other processes.
  static Result<Database> open(const std::filesystem::path& path, std::span<const char* const> steps,
                               const char* what);
  /// Runs `change` in a transaction that begins by taking the right to write. Whatever fails, nothing of it
  /// stays.
  Result<void> change(const std::function<Result<void>()>& change) const;
  /// A second connection to the same file, which only reads and is for one thread alone: it does without the locks that
  /// the first takes for every value of every row.
  Result<Database> reader() const;
  bool is_open() const { return db_ != nullptr; }
  Statement prepare(const char* sql) const;
  Result<void> run(const char* sql) const;
  /// Empty when every page and index of the file is as it should be; else what SQLite finds wrong.
  std::string damage() const;
  std::string message() const { return sqlite3_errmsg(db_.get()); }
  const std::filesystem::path& path() const { return path_; }

 private:
  std::shared_ptr<sqlite3> db_;
  std::filesystem::path path_;
};

/// Numbers as a blob and back, in this machine's order of bytes; a rest that is no whole number is left out.
template <class T>
std::string pack(std::span<const T> v) {
  return {reinterpret_cast<const char*>(v.data()), v.size_bytes()};
}
std::vector<float> unpack_floats(const std::string& blob);

}  // namespace gc
