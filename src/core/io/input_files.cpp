#include "opifex/core/io/input_files.hpp"

#include <sys/stat.h>

namespace opifex {

namespace {

std::optional<std::pair<std::uint64_t, std::uint64_t>> identity_of(const std::filesystem::path& path) {
  struct stat facts {};
  if (path.empty() || ::stat(path.c_str(), &facts) != 0 || S_ISDIR(facts.st_mode)) return std::nullopt;
  return std::pair<std::uint64_t, std::uint64_t>{facts.st_dev, facts.st_ino};
}

}  // namespace

void InputFiles::add(const std::filesystem::path& path) {
  if (const auto identity = identity_of(path)) files_.try_emplace(*identity, path);
}

void InputFiles::add(const std::vector<std::filesystem::path>& paths) {
  for (const auto& path : paths) add(path);
}

void InputFiles::add(const InputFiles& others) { files_.insert(others.files_.begin(), others.files_.end()); }

void InputFiles::add_folder(const std::filesystem::path& folder) {
  namespace fs = std::filesystem;
  std::error_code ignored;  // what cannot be listed is not read either
  fs::recursive_directory_iterator at(folder, fs::directory_options::skip_permission_denied, ignored);
  for (; at != fs::recursive_directory_iterator(); at.increment(ignored))
    if (at->is_regular_file(ignored)) add(at->path());
}

std::optional<std::filesystem::path> InputFiles::read_as(const std::filesystem::path& target) const {
  const auto identity = identity_of(target);
  const auto known = identity ? files_.find(*identity) : files_.end();
  return known == files_.end() ? std::nullopt : std::optional(known->second);
}

}  // namespace opifex
