/// The user's own list of titles, for what carries only an id.
#pragma once

#include <filesystem>
#include <map>
#include <string>

#include "opifex/core/platforms/identity.hpp"

namespace opifex {

class TitleList {
 public:
  TitleList() = default;
  /// CSV (RFC 4180), UTF-8: id,title. Lines that begin with # and a first line `id,title` are passed over. Error
  /// (bad_titles) with the line.
  static TitleList read(const std::filesystem::path& file);

  bool empty() const { return titles_.empty(); }
  /// The title of an id in any writing (PRXS-00101, prxs_001.01); empty if the list has none.
  std::string find(std::string_view id) const;
  /// Gives the title to what has none of its own; a volume identifier is none.
  void apply(Identity& id) const;

 private:
  std::map<std::string, std::string> titles_;  // by letters and digits of the id
};

}  // namespace opifex
