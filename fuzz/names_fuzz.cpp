// Names and texts out of images: made safe, held against patterns, taken for parts, put into sheets again.
#include <cstdlib>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/glob.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/part_names.hpp"

#include "fuzz.hpp"

using namespace opifex;

namespace {

void require(bool holds) {
  if (!holds) std::abort();
}

void check_one(const std::string& name) {
  for (const NameRules rules : {NameRules::host, NameRules::drive, NameRules::fatx}) {
    const std::string made = made_safe(name, rules);
    require(is_safe_name(made));
    require(made_safe(made, rules) == made);
    const std::string brief = shortened(made, 42, 100);
    require(utf16_units(brief) <= 42 && brief.size() <= 100 && is_utf8(brief));
  }
  if (member_path_fault(name).empty()) {
    const std::filesystem::path below = (std::filesystem::path("root") / name).lexically_normal();
    require(*below.begin() == "root" || name.find('\\') != std::string::npos);
  }
  require(printable(printable(name)) == printable(name));
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string_view text(reinterpret_cast<const char*>(data), std::min<std::size_t>(size, 4096));
  std::vector<std::string> names;
  for (std::size_t at = 0; at <= text.size() && names.size() < 64;) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    names.emplace_back(text.substr(at, end - at));
    at = end + 1;
  }
  for (const std::string& name : names) check_one(name);
  std::size_t parts = 0;
  for (const PartSet& set : find_part_sets(names)) {
    require(!set.parts.empty() && set.missing.size() <= 100'000);
    parts += set.parts.size() + set.duplicates.size();
  }
  require(parts <= 4 * names.size());
  if (names.size() > 1 && names[0].size() < 64) path_fits(names[0], names[1]);
  return 0;
}
