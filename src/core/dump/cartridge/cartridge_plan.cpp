// What is in the reader, how large it is, and what the dump will be called.
#include <algorithm>
#include <bit>
#include <set>

#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/cartridge.hpp"
#include "opifex/core/formats/rom/convert.hpp"
#include "opifex/core/io/byte_source.hpp"

#include "readings.hpp"
#include "working_state.hpp"

namespace opifex::dump {

namespace fs = std::filesystem;

namespace {

constexpr std::string_view kClean =
    "switch the reader off, take the cartridge out, clean its contacts with isopropyl alcohol, let them dry, put it in "
    "firmly and try again";

}  // namespace

class CartridgePlanner {
 public:
  explicit CartridgePlanner(CartridgeDump& dump) : dump_(dump), host_(dump.host_), plan_(dump.plan_) {}

  void run() {
    plan_.reader = host_.begin();
    const ReaderState state = host_.state();
    plan_.insertions = state.insertions;
    if (state.cartridge == "none")
      throw Error({.fault = Fault::device,
                   .code = "no_cartridge",
                   .what = "there is no cartridge in the reader",
                   .hint = "put one in, contacts first, until it clicks"});
    find_machine();
    find_rom_size();
    find_save_size();
    make_front();
    name_files();
    look_for_unfinished();
    constexpr double kBytesPerSecond = 11'520.0 * 0.93;  // of 115200 baud, less the frames around the data
    plan_.expected_seconds =
        static_cast<double>(plan_.rom_bytes + 2 * plan_.save_bytes) * (plan_.reader.sums ? 1.0 : 2.0) / kBytesPerSecond;
  }

 private:
  const CartridgeRequest& request() const { return dump_.request_; }

  bool has_bus(std::string_view bus) const {
    return std::find(plan_.reader.buses.begin(), plan_.reader.buses.end(), bus) != plan_.reader.buses.end();
  }

  /// Read twice: a header that comes out in two ways is none.
  std::optional<ReaderHost::Header> header_on(const rom::Machine& machine) {
    host_.require(fmt::format("BUS {}", machine.reader_bus));
    if (!request().mapper.empty()) host_.require(fmt::format("MAPPER {}", request().mapper));
    const auto one = host_.header(), two = one ? host_.header() : std::nullopt;
    if (!one || !two || one->at != two->at || one->bytes != two->bytes) return std::nullopt;
    return one;
  }

  /// False if these bytes are no header of that machine's cartridges.
  bool take(const rom::Machine& machine, const std::optional<ReaderHost::Header>& raw) {
    auto header = raw ? rom::read_bus_header(machine, *raw) : std::nullopt;
    if (!header) return false;
    plan_.machine = request().machine ? &machine : &rom::machine_by_header(machine, *header);
    plan_.header = std::move(*header);
    plan_.raw = *raw;
    return true;
  }

  void find_machine() {
    if (const rom::Machine* told = request().machine) {
      if (!has_bus(told->reader_bus))
        throw Error({.code = "no_such_bus",
                     .what = fmt::format("this reader has no place for {} cartridges", told->name),
                     .found = fmt::format("{}", fmt::join(plan_.reader.buses, ", "))});
      const auto raw = header_on(*told);
      if (take(*told, raw)) return;
      plan_.machine = told;
      plan_.header_readable = false;
      if (raw) plan_.raw = *raw;
      if (!told->headerless)
        plan_.warnings.push_back({"unreadable_header", "its header cannot be read: a bad contact, or it has none"});
      return;
    }
    // Those of 3.3 V first: nothing gets more than it can take before it is known what it is.
    for (const bool low : {true, false}) {
      std::set<std::string_view> tried;
      for (const rom::Machine& machine : rom::machines())
        if (machine.low_voltage == low && !machine.headerless && has_bus(machine.reader_bus) &&
            tried.insert(machine.reader_bus).second && take(machine, header_on(machine)))
          return;
    }
    throw Error({.fault = Fault::device,
                 .code = "unreadable_header",
                 .what = "no header that makes sense can be read from this cartridge",
                 .found = "a dirty contact, or a cartridge without a header",
                 .hint = fmt::format("{}; if you know what it is, say so with <system> and <size>", kClean)});
  }

  void find_rom_size() {
    if (request().part == CartridgePart::save) return;
    if (const auto told = request().rom_bytes) {
      plan_.rom_bytes = *told;
      plan_.sized_by = "your word";
      if (plan_.machine->headerless || plan_.machine->sized_by_chip) look_behind(ocr1::kRomSpace, plan_.rom_bytes);
      if (request().nes) add_character();
    } else if (plan_.machine->sized_by_chip && plan_.header_readable) {
      plan_.rom_bytes = probed_size();
      plan_.sized_by = "what its bus shows";
      plan_.warnings.push_back({"size_by_bus",
                                "no header tells its size: the bus repeats or falls silent behind it, as "
                                "it would with a bad contact of the top address line"});
    } else if (plan_.header_readable && plan_.header.declared_bytes) {
      plan_.rom_bytes = *plan_.header.declared_bytes;
      plan_.sized_by = "the header";
    } else {
      const bool refused = plan_.header_readable || plan_.machine->headerless;
      throw Error({.fault = refused ? Fault::refused : Fault::device,
                   .code = refused ? "no_size" : "unreadable_header",
                   .what = "nothing tells how large this ROM is",
                   .hint = plan_.machine->headerless ? "say it with <size>: these cartridges have no header"
                                                     : fmt::format("{}; or say it with <size>", kClean)});
    }
    if (plan_.rom_bytes > plan_.machine->most_bytes)
      throw Error({.code = "too_large",
                   .what = fmt::format("no {} cartridge is that large", plan_.machine->name),
                   .found = human_size(plan_.rom_bytes),
                   .expected = "at most " + human_size(plan_.machine->most_bytes)});
  }

  /// The user's word may be too small: then what follows is neither the beginning again nor silence.
  void look_behind(std::string_view space, std::uint64_t bytes) {
    if (!std::has_single_bit(bytes) || bytes >= plan_.machine->most_bytes || ends_at(space, bytes)) return;
    plan_.more_behind = true;
    plan_.warnings.push_back({"more_behind", "behind that size other data follows: the chip may be larger"});
  }

  void add_character() {
    plan_.character_bytes = request().nes->character_bytes;
    if (request().character_unknown) {
      plan_.more_behind = true;
      plan_.warnings.push_back({"no_character", "taken for one with character RAM, but nobody said so",
                                "say the size of its character ROM with <chr-size>; 0: it has RAM"});
    }
    if (plan_.character_bytes == 0) return;
    look_behind(ocr1::kCharacterSpace, plan_.character_bytes);
    plan_.rom_bytes += plan_.character_bytes;
  }

  /// Once the saves are known.
  void make_front() {
    if (!request().nes || plan_.rom_bytes == 0) return;
    rom::NesWord word = *request().nes;
    word.program_bytes = plan_.rom_bytes - plan_.character_bytes;
    word.save_bytes = plan_.save_bytes;
    plan_.front = rom::nes_header(word);
    plan_.header = rom::read_header(*plan_.machine, plan_.front);
    plan_.warnings.push_back({"header_by_word",
                              "no cartridge tells its mapper and mirroring: the header of the file has "
                              "your word for them"});
  }

  /// Where a chip ends its bus goes on in a way that shows: it repeats, stays at one value, or gives the address back.
  std::uint64_t probed_size() {
    const std::uint64_t most = plan_.machine->most_bytes;
    for (std::uint64_t size = plan_.machine->unit_bytes; size < most; size *= 2)
      if (ends_at(ocr1::kRomSpace, size)) return size;
    return most;
  }

  Bytes sample(std::string_view space, std::uint64_t at) {
    constexpr std::uint32_t kSample = 4096;
    return host_.read(std::string(space), static_cast<std::uint32_t>(at), kSample).bytes;
  }

  bool ends_at(std::string_view space, std::uint64_t size) {
    const Bytes behind = sample(space, size);
    Bytes addresses(behind.size());
    for (std::size_t i = 0; i < addresses.size(); ++i)
      addresses[i] = static_cast<std::byte>((size + i) / 2 >> (i % 2 == 0 ? 0 : 8));
    if (nearly_alike(behind, addresses)) return true;
    if (nearly_alike(behind, sample(space, 0)))
      return nearly_alike(sample(space, size + size / 2), sample(space, size / 2));
    // A chip may have a long blank part: its bus is only silent if all that follows is.
    const Bytes silence(behind.size(), behind.front());
    if (!nearly_alike(behind, silence)) return false;
    for (std::uint64_t at = size; at < plan_.machine->most_bytes; at += std::max(size / 2, at / 2))
      if (!nearly_alike(sample(space, at), behind)) return false;
    return true;
  }

  void find_save_size() {
    if (request().part == CartridgePart::rom) return;
    if (const auto told = request().save_bytes) {
      plan_.save_bytes = *told;
      return;
    }
    const auto known = plan_.header_readable ? plan_.header.save.bytes : std::optional<std::uint64_t>();
    plan_.save_bytes = known.value_or(0);
    plan_.save_shows_later =
        plan_.save_bytes == 0 && plan_.machine->save_in_rom && request().part == CartridgePart::both;
    const bool may_have = !known || plan_.machine->sized_by_chip;
    if (plan_.save_shows_later)
      plan_.warnings.push_back({"save_later", "whether it keeps saves shows in its ROM: then they are read, too"});
    else if (plan_.save_bytes == 0 && may_have)
      plan_.warnings.push_back({"save_unknown",
                                "nothing in the header tells whether it keeps saves, and how many bytes",
                                "if you know it, say so with <save-size>"});
    if (plan_.save_bytes == 0 && request().part == CartridgePart::save)
      throw Error({.code = "no_save",
                   .what = "by its header this cartridge keeps no saves",
                   .hint = "if you know better, say how many bytes with <save-size>"});
  }

  std::string stem() const {
    std::string name(trim(plan_.header.title.empty() ? plan_.header.code : plan_.header.title));
    std::erase_if(name, [](char c) { return c < 0x20 || c > 0x7E; });
    if (name.empty()) name = fmt::format("{} cartridge", plan_.machine->name);
    return made_safe(name, NameRules::drive);
  }

  void name_files() {
    const fs::path& out = request().out;
    const RomContent content{nullptr, plan_.machine->id};
    // Without its extension of texts: what lies in a folder is called for what it is.
    const std::string extension(rom::usual_extension(content, {}));
    const bool folder = out.string().ends_with('/') || fs::is_directory(out);
    plan_.rom_file = folder ? out / (stem() + extension) : out;
    if (!folder && !out.has_extension()) plan_.rom_file += extension;
    plan_.save_file = fs::path(plan_.rom_file).replace_extension(rom::usual_save_extension(*plan_.machine));
    plan_.working = plan_.rom_file.string() + ".opifex-dump";
    plan_.state = plan_.rom_file.string() + ".opifex-state";
    if (plan_.rom_bytes > 0) plan_.files.push_back({plan_.rom_file, plan_.front.size() + plan_.rom_bytes});
    if (plan_.save_bytes > 0) plan_.files.push_back({plan_.save_file, plan_.save_bytes});
    plan_.target = target_facts(plan_.rom_file.parent_path());
    if (!request().file_system.empty()) plan_.target = with_file_system(plan_.target, request().file_system);
  }

  void look_for_unfinished() {
    const auto saved = request().restart ? std::nullopt : WorkingState::load(plan_.state);
    if (saved && saved->fits(plan_))
      plan_.resumes_at =
          static_cast<double>(saved->done) / static_cast<double>(std::max<std::uint64_t>(1, plan_.rom_bytes));
  }

  CartridgeDump& dump_;
  ReaderHost& host_;
  CartridgePlan& plan_;
};

CartridgeDump::CartridgeDump(CartridgeRequest request, ReaderLink& link, std::stop_token stop)
    : request_(std::move(request)),
      plan_{},
      host_(link, std::move(stop),
            static_cast<std::uint64_t>(std::hash<std::string>{}(request_.out.string())) ^ link.now_ms()) {
  try {
    CartridgePlanner(*this).run();
  } catch (...) {
    host_.leave();  // nobody else can: it stays under power otherwise
    throw;
  }
}

void CartridgeDump::check_plan() const {
  std::vector<fs::path> targets;
  for (const PlannedFile& f : plan_.files) targets.push_back(f.path);
  if (plan_.save_shows_later) targets.push_back(plan_.save_file);
  refuse_existing(targets, request_.inputs, request_.existing);
  if (const auto saved = WorkingState::load(plan_.state); saved && !saved->fits(plan_) && !request_.restart)
    throw Error({.fault = Fault::needs_word,
                 .code = "other_unfinished",
                 .what = "there is an unfinished dump of another cartridge under this name",
                 .file = plan_.working.string(),
                 .hint = "<restart> throws it away; <out> gives another name"});
  check_fits(plan_.files, plan_.target);
}

}  // namespace opifex::dump
