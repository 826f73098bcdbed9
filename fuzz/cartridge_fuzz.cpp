// ROMs of cartridges and floppies: what they are taken for, and how they are opened.
#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/platforms/identity.hpp"

#include "fuzz.hpp"

using namespace opifex;

namespace {

/// One file that is nowhere.
class OneFile final : public FileSpace {
 public:
  explicit OneFile(SourcePtr file) : file_(std::move(file)) {}
  SourcePtr open(const std::filesystem::path&) const override { return file_; }
  bool is_file(const std::filesystem::path&) const override { return true; }
  bool is_folder(const std::filesystem::path&) const override { return false; }
  std::vector<std::filesystem::path> entries(const std::filesystem::path&) const override { return {}; }
  bool same_file(const std::filesystem::path& a, const std::filesystem::path& b) const override { return a == b; }

 private:
  SourcePtr file_;
};

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const SourcePtr file = memory_source(fuzz::bytes_of(data, size), "fuzz");
  OpenOptions options;
  options.files = std::make_shared<OneFile>(file);
  for (const char* id : {"rom", "adf"}) {
    const Format* format = find_format(id);
    fuzz::tolerate([&] {
      format->probe(*file, "fuzz.gb");
      identify_platform(format->open("fuzz", options));
    });
  }
  // As a ROM of every machine, whatever it is.
  for (const rom::Machine& machine : rom::machines())
    fuzz::tolerate([&] {
      const rom::Container container = rom::container_of(*file, &machine);
      const Bytes bytes = rom::read_rom(*file, container);
      rom::problems_of(rom::examine(&machine, container, bytes));
      rom::with_right_checksums(machine, bytes);
      rom::read_bus_header(machine, {static_cast<std::uint32_t>(size % 70'000), bytes});
    });
  return 0;
}
