#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

Volume archive_volume(const Archive& archive) {
  Volume volume;
  volume.system = "archive-" + archive.kind();
  const auto& members = archive.members();
  for (std::size_t i = 0; i < members.size(); ++i) {
    const ArchiveMember& m = members[i];
    VolumeEntry e;
    e.path = m.name;
    e.kind = m.folder ? EntryKind::folder : EntryKind::file;
    e.size_bytes = m.size_bytes;
    e.modified = m.modified;
    e.refused = m.refused;
    e.safe = m.refused.empty();
    if (!m.folder && m.refused.empty()) e.source = archive.open_member(i);
    if (!m.refused.empty())
      volume.problems.push_back(
          {"member_refused", printable(m.name) + " is never written: " + m.refused, Weight::warning});
    volume.entries.push_back(std::move(e));
  }
  return volume;
}

}  // namespace opifex
