#include <sys/stat.h>

#include "opifex/core/dump/reader_source.hpp"
#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/io/output.hpp"

#include "../sim/toml_table.hpp"

namespace opifex::dump {
namespace {

namespace fs = std::filesystem;

constexpr SimulatedKind kReader = {"reader", "docs/simulated-reader.md"};
constexpr const char* kRomKey = "rom";
constexpr std::string_view kSimulation = "sim:";

Bytes whole_file(const fs::path& file, std::uint64_t most) {
  const SourcePtr source = open_file(file);
  if (source->size() > most)
    throw Error({.code = "bad_simulation",
                 .what = "this is larger than any cartridge",
                 .file = file.string(),
                 .found = fmt::format("{} bytes", source->size())});
  return read_up_to(*source, 0, static_cast<std::size_t>(source->size()));
}

void read_cartridge(TomlTable& t, ReaderDescription& d, std::string& system) {
  t.path(kRomKey, d.rom);
  t.path("save", d.save);
  t.path("other", d.other);
  t.get("system", system);
  t.get("mapper", d.setup.mapper);
  std::string clock;
  t.get("clock", clock);
  if (clock.empty()) return;
  const auto bytes = ocr1::parse_hex(clock);
  constexpr std::size_t kClockBytes = 5;
  if (!bytes || bytes->size() != kClockBytes) t.fail("clock", printable(clock), "ten hexadecimal digits");
  d.setup.clock = *bytes;
}

void read_reader(TomlTable& t, SimReaderSetup& setup) {
  t.number("bytes_per_second", setup.bytes_per_second, 0, 100'000'000);
  t.number("chunk", setup.chunk, 64, 4096);
  t.get("sums", setup.sums);
}

void read_faults(TomlTable& t, SimReaderSetup& setup) {
  const toml::array* list = t.array("faults");
  if (!list) return;
  for (const toml::node& node : *list) {
    const auto text = node.value<std::string>();
    if (!text) t.fail("faults", "a value of another kind", "a list of texts like \"dirty:5=0.001\"");
    const auto colon = text->find(':');
    setup.faults.push_back({text->substr(0, colon), colon == std::string::npos ? "" : text->substr(colon + 1)});
  }
}

/// The header of an NES file tells where its second chip begins; no chip has the trainer between them.
void split_areas(const ByteSource& file, SimReaderSetup& setup) {
  const rom::NesWord areas = rom::nes_word(read_up_to(file, 0, rom::kNesHeaderBytes));
  const std::size_t front =
      setup.rom.size() -
      std::min<std::size_t>(setup.rom.size(), static_cast<std::size_t>(areas.program_bytes + areas.character_bytes));
  setup.rom.erase(setup.rom.begin(), setup.rom.begin() + static_cast<std::ptrdiff_t>(front));
  const auto program = std::min<std::size_t>(setup.rom.size(), static_cast<std::size_t>(areas.program_bytes));
  setup.character.assign(setup.rom.begin() + static_cast<std::ptrdiff_t>(program), setup.rom.end());
  setup.rom.resize(program);
  if (setup.mapper.empty()) setup.mapper = fmt::format("nes:{}", areas.mapper);
}

}  // namespace

ReaderDescription load_reader(const fs::path& file) {
  const toml::table root = parse_simulation(file, kReader);
  ReaderDescription d;
  std::string system;
  bool cartridge = false;
  TomlTable t(root, "", file, kReader);
  t.number("seed", d.setup.seed, 0, INT64_MAX);
  t.table("reader", [&](TomlTable& x) { read_reader(x, d.setup); });
  t.table("cartridge", [&](TomlTable& x) {
    cartridge = true;
    read_cartridge(x, d, system);
  });
  read_faults(t, d.setup);
  t.finish();
  if (!cartridge || d.rom.empty()) t.fail("cartridge", "nothing", "the cartridge in the reader, with its rom");
  const SourcePtr rom = open_file(d.rom);
  const auto found = rom::detect_system(*rom);
  const rom::Machine* machine = system.empty() ? (found ? found->machine : nullptr) : rom::find_machine(system);
  if (!machine) t.fail("cartridge", "a ROM that no machine is known of", "system = one of gb, gbc, gba, snes ...");
  // A cartridge holds the ROM itself, whatever its file looks like.
  const rom::Container container = rom::container_of(*rom, machine);
  d.setup.rom = rom::unpacked(whole_file(d.rom, rom::most_file_bytes()), container);
  if (container.header_bytes == rom::kNesHeaderBytes) split_areas(*rom, d.setup);
  d.setup.bus = machine->reader_bus;
  d.setup.header_at = rom::bus_header_in_rom(*machine, d.setup.rom);
  if (!d.other.empty()) {
    const SourcePtr other = open_file(d.other);
    d.setup.other = rom::unpacked(whole_file(d.other, rom::most_file_bytes()), rom::container_of(*other, machine));
  }
  constexpr std::uint64_t kMostSave = 1 << 20;
  if (!d.save.empty()) d.setup.save = whole_file(d.save, kMostSave);
  return d;
}

bool is_reader(const std::string& source) {
  if (source.starts_with(kSimulation)) {
    try {
      const toml::table root = parse_simulation(source.substr(kSimulation.size()), kReader);
      return root.contains("cartridge") || root.contains("reader");
    } catch (const Error&) {
      return false;  // whoever opens it says what is wrong
    }
  }
  struct stat facts {};
  // Terminals and serial lines: major numbers 4 (ttyS), 136 to 143 (pts), 166 (ttyACM), 188 (ttyUSB), 204 (ttyAMA).
  if (::stat(source.c_str(), &facts) != 0 || !S_ISCHR(facts.st_mode)) return false;
  const std::string name = fs::path(source).filename().string();
  return name.starts_with("tty") || fs::path(source).parent_path() == "/dev/pts";
}

ReaderSource::ReaderSource(const std::string& source) : port_(source) {
  if (source.starts_with(kSimulation)) {
    const fs::path file = source.substr(kSimulation.size());
    description_ = load_reader(file);
    files_ = {file, description_.rom};
    for (const fs::path& named : {description_.save, description_.other})
      if (!named.empty()) files_.push_back(named);
    save_before_ = description_.setup.save;
    simulated_ = std::make_unique<SimReaderPort>(description_.setup);
    port_ = simulated_->path();
  }
  link_ = open_port(port_);
}

ReaderSource::~ReaderSource() = default;

void ReaderSource::keep_save() {
  if (!simulated_ || description_.save.empty()) return;
  Bytes now = simulated_->save();
  if (now == save_before_) return;
  write_whole_file(description_.save, as_text(now), Existing::replace);
  save_before_ = std::move(now);
}

}  // namespace opifex::dump
