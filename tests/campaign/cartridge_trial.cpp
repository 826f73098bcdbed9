#include "cartridge_trial.hpp"

#include "opifex/core/dump/cartridge.hpp"
#include "opifex/core/dump/sim_port.hpp"

#include "cartridges.hpp"

namespace opifex::campaign {
namespace {

using namespace testkit;
using namespace dump;

struct Cartridge {
  std::string_view machine;
  Bytes rom, save;
  bool confirmed;        ///< by a checksum over the whole ROM
  Bytes character = {};  ///< of the second chip, with a mapper of 4
};

Cartridge random_cartridge(Random& random) {
  const std::size_t k = 1024;
  switch (random.below(7)) {
    case 0:
      return {"gb", game_boy(random, static_cast<unsigned>(random.below(3))), random.bytes(8 * k), true};
    case 1:
      return {"snes", snes(random, 256 * k, 8), random.bytes(8 * k), true};
    case 2:
      return {"megadrive", megadrive(random, 128 * k), {}, true};
    case 3:
      return {"sms", master_system(random, 32 * k, 0xC, 0x7FF0), {}, true};
    case 4:
      return {"gba", gba(random, (32 * k) << random.below(3)), {}, false};
    case 5: {
      NesChips chips = nes(random, (32 * k) << random.below(3), random.below(2) == 0 ? 0 : 16 * k);
      return {"nes", std::move(chips.program), random.bytes(8 * k), false, std::move(chips.character)};
    }
    default:
      return {"gb", game_boy(random, 0, 0, 0), {}, true};
  }
}

ReaderFault cable_fault(Random& random) {
  constexpr std::array kNames = {"drop", "garbage", "corrupt", "duplicate", "silent", "slow"};
  const std::string name = kNames[random.below(kNames.size())];
  const std::uint64_t n = name == "drop"   ? 2000 + random.below(20'000)
                          : name == "slow" ? 1 + random.below(80)
                                           : 3 + random.below(30);
  return {name, std::to_string(n)};
}

/// Of the cartridge; `steady`: it never reads right.
struct ContactFault {
  ReaderFault fault;
  bool steady = false, is_unplug = false, is_exchange = false;
};
ContactFault contact_fault(Random& random, unsigned bus_bits, std::size_t rom_bytes) {
  const auto line = random.below(bus_bits);
  const auto rate = [&] {
    return fmt::format("{:.7f}", 1.0 / static_cast<double>(std::uint64_t{32} << random.below(14)));
  };
  const auto address_lines = static_cast<std::uint64_t>(std::bit_width(rom_bytes)) - 1;
  switch (random.below(8)) {
    case 0:
    case 1:
      return {{"dirty", fmt::format("{}={}", line, rate())}};
    case 2:
      return {{"dirty-address", fmt::format("{}={}", random.below(address_lines), rate())}};
    case 3:
      return {{"stuck-data", fmt::format("{}={}", line, random.below(2))}, true};
    case 4:
      return {{"stuck-address", std::to_string(random.below(address_lines))}, true};
    case 5:
      return {{"exchange", std::to_string(1000 + random.below(2 * rom_bytes))}, false, false, true};
    case 6:
      return {{"exchange-unseen", std::to_string(1000 + random.below(2 * rom_bytes))}, false, false, true};
    default:
      return {{"unplug", std::to_string(1000 + random.below(2 * rom_bytes))}, false, true};
  }
}

class Trial {
 public:
  Trial(std::uint64_t seed, CartridgeCounts& counts)
      : random_(seed), counts_(counts), cartridge_(random_cartridge(random_)) {
    setup_.rom = cartridge_.rom;
    setup_.save = cartridge_.save;
    setup_.character = cartridge_.character;
    setup_.mapper = cartridge_.machine == "nes" ? kMapper : "";
    setup_.bus = machine(cartridge_.machine).reader_bus;
    if (setup_.bus == "snes") setup_.header_at = 0x7FB0;
    setup_.seed = seed;
    setup_.sums = random_.below(4) != 0;
    setup_.chunk = 64u << random_.below(6);
    setup_.bytes_per_second = random_.below(2) == 0 ? 0 : 11'520;
  }

  /// What was claimed and is not so, with the faults there were; nothing: all of it is so.
  std::string run() {
    const std::string lie = run_through();
    return lie.empty() ? lie : lie + "; faults" + faults_text();
  }

 private:
  std::string run_through() {
    const bool wide = machine(cartridge_.machine).bus != rom::BusOrder::bytes;
    for (std::uint64_t n = random_.below(3); n > 0; --n) setup_.faults.push_back(cable_fault(random_));
    bool steady = false, any = false, unplugs = false, exchanges = false;
    for (std::uint64_t n = random_.below(3); n > 0; --n) {
      const ContactFault fault = contact_fault(random_, wide ? 16 : 8, cartridge_.rom.size());
      setup_.faults.push_back(fault.fault);
      steady = steady || fault.steady;
      unplugs = unplugs || fault.is_unplug;
      exchanges = exchanges || fault.is_exchange;
      any = true;
    }
    if (exchanges) setup_.other = other_rom();
    const std::string first = dump_once(steady, any);
    if (!first.empty()) return first;
    if (const std::string lie = write_once(); !lie.empty()) return lie;
    if (!unplugs && !exchanges) return "";
    // Put in again, without its faults: the same command goes on. Or it is the other one that is in now.
    std::erase_if(setup_.faults, [](const ReaderFault& f) { return !is_of_cable(f); });
    if (exchanges) become_the_other();
    ++setup_.seed;
    return dump_once(false, any);
  }

  static bool is_of_cable(const ReaderFault& f) {
    return f.name != "unplug" && !f.name.starts_with("exchange") && !f.name.starts_with("dirty") &&
           !f.name.starts_with("stuck");
  }

  /// With the same header, as far as no checksum is in it: another one in a few places, or everywhere behind it.
  Bytes other_rom() {
    Bytes rom = cartridge_.rom;
    constexpr std::size_t kBehind = 0x8000 - 0x100;  // nothing in front of it is a header's of any machine
    if (random_.below(2) == 0)
      for (int i = 0; i < 24; ++i) rom[0x1000 + random_.below(kBehind - 0x1000)] ^= std::byte{0x21};
    else
      for (std::size_t i = 0x1000; i < 0x7F00; ++i) rom[i] ^= std::byte{0x55};
    for (std::size_t i = 0x8000; i < rom.size(); i += 1 + random_.below(0x4000)) rom[i] ^= std::byte{0x0F};
    return rom::with_right_checksums(machine(cartridge_.machine), rom).value_or(rom);
  }

  void become_the_other() {
    cartridge_.rom = setup_.rom = setup_.other;
    for (std::byte& b : setup_.save) b = ~b;
    cartridge_.save = setup_.save;
    setup_.other.clear();
  }

  /// What somebody says who knows the cartridge.
  void say(CartridgeRequest& request) const {
    request.machine = &machine(cartridge_.machine);
    request.rom_bytes = cartridge_.rom.size();
    if (cartridge_.machine != "nes") return;
    request.mapper = kMapper;
    request.nes = rom::NesWord{.mapper = 4, .character_bytes = cartridge_.character.size()};
    request.save_bytes = cartridge_.save.size();
  }

  /// What the file has to hold.
  std::string truth(const CartridgePlan& plan) const {
    std::string file;
    for (const Bytes* part : {&plan.front, &cartridge_.rom, &cartridge_.character}) file += as_text(*part);
    return file;
  }

  std::string dump_once(bool steady, bool any) {
    SimReader reader(setup_);
    SimLink link(reader);
    QuietContext context;
    std::string end;
    try {
      CartridgeRequest request;
      if (told_) say(request);
      request.out = folder_.path() / "dumps/";
      request.existing = Existing::replace;
      const bool only_save = !cartridge_.save.empty() && random_.below(6) == 0;
      if (only_save && cartridge_.machine == "nes") say(request);
      if (only_save) request.part = CartridgePart::save, request.save_bytes = cartridge_.save.size();
      request.hashes = {};
      request.save_every_ms = random_.below(2) == 0 ? 0 : 5000;
      CartridgeDump dump(request, link, {});
      dump.check_plan();
      const CartridgeResult result = dump.run(context);
      counts_.resumed += result.resumed ? 1u : 0u;
      end = to_string(result.verdict);
      ++counts_.ends[end];
      if (const std::string lie = held_against(result, dump.plan(), steady); !lie.empty()) return lie;
    } catch (const Error& e) {
      ++counts_.ends[e.details.code];
      // Who knows what it is says so, and gets what can be read.
      if (e.details.code == "unreadable_header" && !told_) {
        told_ = true;
        return dump_once(steady, any);
      }
      // A header that is not quite read may tell no size, or another one than before.
      const bool misread = e.details.code == "no_size" || e.details.code == "other_unfinished";
      if (e.details.fault != Fault::device && !(misread && any))
        return fmt::format("ended by {}: {}", e.details.code, e.what());
      // What stopped it was a fault of the cartridge; a bad cable alone never does.
      if (!any) return fmt::format("a cable alone stopped it: {}", e.what());
      for (const auto& [name, size] : listing(folder_.path()))
        if (name.find(".opifex-") == std::string::npos && size > 0)
          return fmt::format("{} was left by one that failed", name);
    }
    if (reader.saves_written() > 0) return "it wrote to the cartridge";
    return "";
  }

  /// A save is written to it: what is said of it afterwards is so, and it was read for sure before.
  std::string write_once() {
    if (cartridge_.save.empty()) return "";
    SimReaderSetup setup = setup_;
    switch (random_.below(4)) {
      case 0:
        setup.faults.push_back({"lost-commit", ""});
        break;
      case 1:
        setup.faults.push_back({"verify", std::to_string(random_.below(cartridge_.save.size()))});
        break;
      default:
        break;
    }
    SimReader reader(setup);
    SimLink link(reader);
    try {
      CartridgeRequest request;
      request.out = folder_.path() / "writing.sav";
      request.part = CartridgePart::save;
      if (cartridge_.machine == "nes") say(request);
      request.save_bytes = cartridge_.save.size();
      CartridgeDump dump(request, link, {});
      Bytes others = cartridge_.save;
      for (std::byte& b : others) b = ~b;
      const Bytes read = dump.read_save_for_sure();
      if (read != cartridge_.save && (setup_.other.empty() || read != others))
        return "another save was read for sure than the cartridge has";
      Bytes wanted = cartridge_.save;
      for (int i = 0; i < 20; ++i) wanted[random_.below(wanted.size())] ^= std::byte{0x11};
      const auto written = dump.write_save(wanted);
      ++counts_.saves_written;
      ++counts_.ends[written.right ? "save written" : "save not written"];
      if (written.right != (reader.save() == wanted) && written.now) return "a write is not what is said of it";
      if (written.now && *written.now != reader.save()) return "the cartridge holds another save than is said";
    } catch (const Error& e) {
      ++counts_.ends["save: " + e.details.code];
      if (reader.saves_written() > 0) return "it stopped in words, and had written";
      if (e.details.fault == Fault::usage) return e.what();
    }
    return "";
  }

  std::string held_against(const CartridgeResult& result, const CartridgePlan& plan, bool steady) {
    const bool good = result.verdict == CartridgeVerdict::proved || result.verdict == CartridgeVerdict::agreed;
    if (plan.rom_bytes == 0)
      return good && read_file(plan.save_file) != as_text(cartridge_.save) ? "another save than the cartridge's" : "";
    const std::string read = read_file(plan.rom_file);
    if (!setup_.other.empty() && good && read != truth(plan)) {
      // All of it may be the other one's: then it was exchanged before the first byte.
      const auto [setup, cartridge] = std::pair(setup_, cartridge_);
      become_the_other();
      std::string lie = held_against(result, plan, steady);
      std::tie(setup_, cartridge_) = std::tie(setup, cartridge);
      return lie;
    }
    const bool same = read == truth(plan);
    // Without a size in the header a chip whose top line has no contact is, from outside, one of half the size: said
    // (size_by_bus), and never called proved.
    const bool half = result.verdict == CartridgeVerdict::agreed && plan.rom_bytes < cartridge_.rom.size() && steady &&
                      as_text(cartridge_.rom).starts_with(read) &&
                      std::any_of(plan.warnings.begin(), plan.warnings.end(),
                                  [](const Warning& w) { return w.code == "size_by_bus"; });
    if (half) return "";
    if (good && !same)
      return fmt::format("{}, and other bytes than the {} cartridge's of {}: {} read", to_string(result.verdict),
                         cartridge_.machine, cartridge_.rom.size(), plan.rom_bytes);
    if (good && steady && !same) return "a line without contact was not noticed";
    if (result.verdict == CartridgeVerdict::proved && !cartridge_.confirmed) return "proved without a checksum";
    if (good && !cartridge_.save.empty() && read_file(plan.save_file) != as_text(cartridge_.save))
      return fmt::format("{}, and another save than the cartridge's", to_string(result.verdict));
    const bool dirty =
        std::any_of(setup_.faults.begin(), setup_.faults.end(), [](const ReaderFault& f) { return !is_of_cable(f); });
    if (!good && !dirty && !result.resumed)
      return fmt::format("{}, and nothing is wrong with it", to_string(result.verdict));
    return "";
  }

  std::string faults_text() const {
    std::string text;
    for (const ReaderFault& f : setup_.faults) text += fmt::format(" {}:{}", f.name, f.value);
    return text;
  }

  static constexpr const char* kMapper = "nes:4";

  Random random_;
  CartridgeCounts& counts_;
  Cartridge cartridge_;
  bool told_ = false;
  SimReaderSetup setup_;
  TempFolder folder_;
};

}  // namespace

std::string cartridge_trial(std::uint64_t seed, CartridgeCounts& counts) { return Trial(seed, counts).run(); }

}  // namespace opifex::campaign
