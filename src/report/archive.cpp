#include "opifex/report/archive.hpp"

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

namespace opifex::report {
namespace {

struct Totals {
  std::uint64_t files = 0, bytes = 0, packed_bytes = 0;
};

Totals totals_of(const Archive& archive) {
  Totals t;
  for (const ArchiveMember& m : archive.members()) {
    t.files += m.folder ? 0 : 1;
    t.bytes += m.size_bytes;
  }
  std::error_code ignored;
  for (const auto& v : archive.volumes()) t.packed_bytes += std::filesystem::file_size(v, ignored);
  return t;
}

}  // namespace

Json archive_json(const std::string& path, const Archive& archive) {
  const Totals totals = totals_of(archive);
  Json volumes = Json::array(), warnings = Json::array();
  for (const auto& v : archive.volumes()) volumes.push_back(v.string());
  for (const ArchiveMember& m : archive.members())
    if (!m.refused.empty())
      warnings.push_back({{"code", "member_refused"}, {"message", m.name + " is left out: " + m.refused}});
  return {{"path", path},
          {"format", "archive"},
          {"platform", nullptr},
          {"complete", true},
          {"confidence", "certain"},
          {"size_bytes", totals.packed_bytes},
          {"archive",
           {{"kind", archive.kind()}, {"parts", volumes}, {"members", totals.files}, {"total_bytes", totals.bytes}}},
          {"warnings", warnings}};
}

std::string archive_text(const std::string& path, const Archive& archive) {
  const Totals totals = totals_of(archive);
  const std::size_t parts = archive.volumes().size();
  std::string text = fmt::format("{}\n  Format      {} archive{}\n", printable(path), archive.kind(),
                                 parts > 1 ? fmt::format(", {} parts", parts) : "");
  text += fmt::format("  Size        {} ({} bytes)\n", human_size(totals.packed_bytes), grouped(totals.packed_bytes));
  text += fmt::format("  Holds       {} file{}, {} ({} bytes)\n", grouped(totals.files), totals.files == 1 ? "" : "s",
                      human_size(totals.bytes), grouped(totals.bytes));
  for (const ArchiveMember& m : archive.members())
    if (!m.refused.empty())
      text += fmt::format("  Warning     {} is left out: {} [member_refused]\n", printable(m.name), m.refused);
  return text;
}

}  // namespace opifex::report
