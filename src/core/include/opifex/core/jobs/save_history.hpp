/// Former versions of a save, of a memory card, of any small image: kept beside it, and never written over.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex::jobs {

/// A save of the user's, whole. Error (refused, "too_large") above 16 MiB.
Bytes read_save_file(const std::filesystem::path& path);

/// One that is kept.
struct SaveVersion {
  std::filesystem::path file;
  std::string stored;  ///< "2026-12-01 10.30.00", universal time
  std::string sha1, origin;
  std::uint64_t size_bytes = 0;
  bool sound = true;  ///< the file is there and has that hash
};

/// All versions of a save, in a folder. Nothing in it is ever written over or removed.
class SaveHistory {
 public:
  /// `folder` empty: NAME.history beside the save.
  SaveHistory(const std::filesystem::path& save, std::filesystem::path folder);
  const std::filesystem::path& folder() const { return folder_; }
  /// Oldest first. Error (refused, "bad_history") if its list cannot be understood.
  std::vector<SaveVersion> versions() const;
  /// The version with these bytes: a new one, or the newest if it has the same. Read back before it counts.
  SaveVersion store(ByteView bytes, const std::string& origin) const;

 private:
  std::filesystem::path save_, folder_;
};

}  // namespace opifex::jobs
