/// Which files in a folder are parts of one: told by their names alone.
#pragma once

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace opifex {

enum class PartKind {
  rar_numbered,     ///< X.part1.rar
  rar_old,          ///< X.rar, X.r00 .. X.r99, X.s00 ..
  zip_split,        ///< X.z01, X.z02 .., X.zip is the last and the one to open
  numbered,         ///< X.7z.001, X.iso.001, X.001: plain byte split, as are all that follow
  image_number,     ///< X.iso.0, X.iso.1
  part_number,      ///< X.part0, X.iso.part0
  part_then_iso,    ///< X.part0.iso
  number_then_iso,  ///< X.1.iso, X.2.iso; never one alone
  wbfs,             ///< X.wbfs, X.wbf1 ..
  fat32_tail        ///< X.66600, X.66601 .. inside a game folder
};

/// Parts of one file or archive.
struct PartSet {
  PartKind kind = PartKind::numbered;
  std::string stem;                     ///< the name without what numbers the parts
  std::vector<std::string> parts;       ///< in the order they are read
  std::vector<std::string> missing;     ///< names of the files a gap wants
  std::vector<std::string> duplicates;  ///< a second file with the number of another: not used
  std::string open;                     ///< the part programs are given; empty if it is missing
  bool lonely = false;                  ///< one part alone: whole or not, its name does not say

  /// What the file is called that the parts are of, as far as their names say.
  std::string whole() const;
  /// Parts one behind the other are the file.
  bool plain_bytes() const;
};

/// The sets among the names of one folder, compared without case, in the order of their stems.
std::vector<PartSet> find_part_sets(const std::vector<std::string>& names);

/// The set the file belongs to, among the files beside it; nothing if its name is no part's name.
std::optional<PartSet> part_set_of(const std::filesystem::path& file);

}  // namespace opifex
