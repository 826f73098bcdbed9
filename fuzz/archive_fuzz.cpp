// Archives: the listing, the bytes of every member, and the headers of RAR that are walked here.
#include <sys/mman.h>
#include <unistd.h>

#include "opifex/core/io/archive.hpp"

#include "fuzz.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  // The unpacking library opens files by their names.
  const int fd = ::memfd_create("archive", MFD_CLOEXEC);
  if (fd < 0 || ::write(fd, data, size) != static_cast<ssize_t>(size)) return 0;
  fuzz::tolerate([&] {
    const ArchivePtr archive = Archive::open("/proc/self/fd/" + std::to_string(fd));
    const FileSpacePtr files = archive_files(archive, "a.zip");
    constexpr std::uint64_t kLook = 64 << 10;
    for (std::size_t i = 0; i < std::min<std::size_t>(20, archive->members().size()); ++i) {
      const ArchiveMember& m = archive->members()[i];
      if (m.folder || !m.refused.empty()) continue;
      fuzz::tolerate([&] { read_up_to(*archive->open_member(i), 0, kLook); });
    }
    files->entries("a.zip");
  });
  ::close(fd);
  return 0;
}
