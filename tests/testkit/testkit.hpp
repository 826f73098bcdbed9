/// What all tests share: folders that vanish, files, vectors, and runs of the built program.
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/base/progress.hpp"

namespace opifex::testkit {

namespace fs = std::filesystem;

/// A new empty folder, removed at the end.
class TempFolder {
 public:
  TempFolder();
  ~TempFolder();
  TempFolder(const TempFolder&) = delete;
  TempFolder& operator=(const TempFolder&) = delete;
  const fs::path& path() const { return path_; }
  fs::path operator/(const std::string& name) const { return path_ / name; }

 private:
  fs::path path_;
};

std::string read_file(const fs::path& path);
/// Makes the folders it needs.
void write_file(const fs::path& path, std::string_view bytes);
/// XORs one byte: damage that can be undone.
void flip_byte(const fs::path& path, std::uint64_t at, unsigned char mask = 0xFF);
std::string sha256_file(const fs::path& path);
/// All names below the folder with their sizes, to see what a command left behind.
std::map<std::string, std::uint64_t> listing(const fs::path& folder);

/// tests/vectors/NAME
fs::path vector_path(const std::string& name);
nlohmann::json vector_json(const std::string& name);
/// The contents of a .gz vector.
std::string gunzip(const fs::path& path);

/// Copies a folder of vectors so that a test may write beside them.
void copy_folder(const fs::path& from, const fs::path& to);

/// The outcome of a run of a program.
struct Outcome {
  int exit_code = -1;
  std::string out, err;
  nlohmann::json json() const { return nlohmann::json::parse(out); }
};
/// Runs `program` in `folder` with stdin closed; NO_COLOR and a plain locale are set.
Outcome run_program(const std::string& program, const std::vector<std::string>& arguments, const fs::path& folder);

/// The code of the Error that `act` throws; empty if it throws none.
std::string error_code(const std::function<void()>& act);

/// Under the sanitizers a program takes ten times as long to start: what is tried hundreds of times is tried less
/// often.
#ifdef __SANITIZE_ADDRESS__
inline constexpr bool kSanitized = true;
#else
inline constexpr bool kSanitized = false;
#endif

/// A context for tests that need none of it.
struct QuietContext {
  Progress progress;
  JobContext context{progress, 0};
  operator JobContext&() { return context; }
};

/// A deterministic byte stream: the same seed, the same bytes.
class Random {
 public:
  explicit Random(std::uint64_t seed) : state_(seed * 2 + 1) {}
  std::uint64_t next();
  std::uint64_t below(std::uint64_t n) { return next() % n; }
  Bytes bytes(std::size_t n);

 private:
  std::uint64_t state_;
};

}  // namespace opifex::testkit
