// Reads a cartridge twice, block by block, and writes what is sure.
#include <algorithm>
#include <chrono>

#include <fcntl.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/cartridge.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/output.hpp"

#include "readings.hpp"
#include "working_state.hpp"

namespace opifex::dump {

namespace fs = std::filesystem;

std::string_view to_string(CartridgeVerdict verdict) {
  switch (verdict) {
    case CartridgeVerdict::proved:
      return "proved";
    case CartridgeVerdict::agreed:
      return "agreed";
    case CartridgeVerdict::unsure:
      return "unsure";
    case CartridgeVerdict::damaged:
      break;
  }
  return "damaged";
}

namespace {

constexpr std::uint32_t kBlock = 8192;
constexpr std::string_view kChanged = "cart_changed";

[[noreturn]] void cart_changed() {
  throw Error({.fault = Fault::device,
               .code = std::string(kChanged),
               .what = "the cartridge was taken out or exchanged while it was read",
               .hint = "give the same command again, and leave the cartridge in"});
}

/// Part of what is read that is in one space of the reader.
struct Stretch {
  std::string_view space;
  std::uint64_t first = 0, bytes = 0;  ///< its place in the ROM or the save
  rom::BusOrder bus = rom::BusOrder::bytes;
};

}  // namespace

class CartridgeReading {
 public:
  CartridgeReading(CartridgeDump& dump, JobContext& context)
      : dump_(dump), plan_(dump.plan_), host_(dump.host_), context_(context) {}

  ~CartridgeReading() { host_.watch({}); }
  CartridgeReading(const CartridgeReading&) = delete;
  CartridgeReading& operator=(const CartridgeReading&) = delete;

  CartridgeResult run() {
    const auto start = std::chrono::steady_clock::now();
    Bytes rom, save;
    if (plan_.rom_bytes > 0) rom = read_rom();
    if (plan_.save_shows_later) save_bytes_ = rom::read_header(*plan_.machine, rom).save.bytes.value_or(0);
    if (save_bytes_ > 0) save = read_save();
    read_clock();
    try {
      if (was_moved()) cart_changed();
      look_again(rom, save);
      make_sure_it_is_the_same();
      if (plan_.rom_bytes == 0) look_for_dead_lines(save);
    } catch (const Error& e) {
      if (e.details.code == kChanged) forget();
      throw;
    }
    if (plan_.rom_bytes > 0) judge(rom);
    if (!save.empty()) judge_save(save);
    write(rom, save);
    result_.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    return std::move(result_);
  }

 private:
  /// Kept beside the dump, so that nothing is read again that was read.
  Bytes read_rom() {
    WorkingState state{.machine = std::string(plan_.machine->id),
                       .header = plan_.raw.bytes,
                       .rom_bytes = plan_.rom_bytes,
                       .character_bytes = plan_.character_bytes};
    Bytes rom = resumed(state);
    if (!plan_.rom_file.parent_path().empty()) fs::create_directories(plan_.rom_file.parent_path());
    FileDescriptor working(::open(plan_.working.c_str(), O_CREAT | O_WRONLY | O_CLOEXEC, 0666));
    if (working < 0) throw_system_error("the working file cannot be made", plan_.working.string(), errno);
    if (::ftruncate(working, static_cast<off_t>(rom.size())) != 0 ||
        ::lseek(working, static_cast<off_t>(rom.size()), SEEK_SET) < 0)
      throw_system_error("the working file cannot be written", plan_.working.string(), errno);
    context_.progress.begin("reading the ROM", plan_.rom_bytes);
    context_.progress.done_bytes = rom.size();
    std::uint64_t saved_ms = now_ms();
    const auto keep = [&] {
      if (::fdatasync(working) != 0)
        throw_system_error("the working file cannot be written", plan_.working.string(), errno);
      state.done = rom.size();
      state.unstable = result_.unstable;
      state.places_1 = ones_;
      state.save(plan_.state);
      saved_ms = now_ms();
    };
    try {
      while (rom.size() < plan_.rom_bytes) {
        const TwiceRead block = first_reading(stretch_at(rom.size()), rom.size());
        add(result_.unstable, block.unstable);
        append(working, block.bytes);
        rom.insert(rom.end(), block.bytes.begin(), block.bytes.end());
        if (now_ms() - saved_ms >= dump_.request_.save_every_ms) keep();
      }
    } catch (const Error&) {
      keep();
      throw;
    }
    keep();
    return rom;
  }

  static std::uint64_t now_ms() {
    return static_cast<std::uint64_t>(
        std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::steady_clock::now().time_since_epoch())
            .count());
  }

  /// Of two chips the second has a space of its own.
  Stretch rom_stretch() const {
    return {ocr1::kRomSpace, 0, plan_.rom_bytes - plan_.character_bytes, plan_.machine->bus};
  }
  Stretch character_stretch() const {
    return {ocr1::kCharacterSpace, plan_.rom_bytes - plan_.character_bytes, plan_.character_bytes,
            rom::BusOrder::bytes};
  }
  Stretch save_stretch() const { return {ocr1::kSaveSpace, 0, save_bytes_, rom::BusOrder::bytes}; }
  Stretch stretch_at(std::uint64_t at) const {
    return at < plan_.rom_bytes - plan_.character_bytes ? rom_stretch() : character_stretch();
  }

  /// How much of it is read in one go from there.
  std::uint32_t block_at(const Stretch& s, std::uint64_t at, std::uint64_t most = UINT64_MAX) const {
    return static_cast<std::uint32_t>(std::min<std::uint64_t>({block_bytes(), s.first + s.bytes - at, most}));
  }
  Bytes once(const Stretch& s, std::uint64_t at, std::uint64_t most = UINT64_MAX) {
    return read_once(host_, s.space, static_cast<std::uint32_t>(at - s.first), block_at(s, at, most));
  }
  TwiceRead twice(const Stretch& s, std::uint64_t at, std::uint64_t most = UINT64_MAX) {
    TwiceRead read = read_twice(host_, plan_.reader, s.space, static_cast<std::uint32_t>(at - s.first),
                                block_at(s, at, most), s.bus);
    for (std::uint64_t& offset : read.unstable.first_offsets) offset += s.first;
    for (std::uint64_t& cell : read.unstable.cells) cell += s.first / UnstablePlaces::kCellBytes;
    return read;
  }
  /// A reader without sums is asked for all of it a second time when it was read once: see look_again().
  TwiceRead first_reading(const Stretch& s, std::uint64_t at) {
    // At the pace of a serial line a block takes a second: its frames are shown as they come.
    const std::uint64_t end = at + block_at(s, at);
    context_.progress.done_bytes = at;
    host_.watch([this, end](std::uint32_t n) {
      context_.progress.done_bytes = std::min(end, context_.progress.done_bytes + n);
    });
    TwiceRead read = plan_.reader.sums ? twice(s, at) : TwiceRead{once(s, at), {}};
    host_.watch({});
    context_.progress.done_bytes = end;
    return read;
  }

  std::uint32_t block_bytes() const { return std::min(kBlock, plan_.reader.most_read); }

  void append(const FileDescriptor& working, ByteView bytes) const {
    while (!bytes.empty()) {
      const ssize_t n = ::write(working, bytes.data(), bytes.size());
      if (n < 0 && errno == EINTR) continue;
      if (n <= 0) throw_system_error("the working file cannot be written", plan_.working.string(), errno);
      bytes = bytes.subspan(static_cast<std::size_t>(n));
    }
  }

  /// What an unfinished dump of this very cartridge has: its last block is read again, and has to be the same.
  Bytes resumed(WorkingState& state) {
    if (!plan_.resumes_at) return {};
    const auto saved = WorkingState::load(plan_.state);
    std::error_code error;
    if (!saved || fs::file_size(plan_.working, error) < saved->done || error) return {};
    Bytes rom = read_up_to(*open_file(plan_.working), 0, static_cast<std::size_t>(saved->done));
    if (rom.size() < saved->done || rom.empty()) return {};
    std::vector<UnstablePlaces> unstable;
    const auto fits = [&](std::uint64_t at) {
      const TwiceRead again = twice(stretch_at(at), at, rom.size() - at);
      unstable.push_back(again.unstable);
      return std::equal(again.bytes.begin(), again.bytes.end(), rom.begin() + static_cast<std::ptrdiff_t>(at));
    };
    // Two cartridges may have one header: the first block tells whose the beginning is, the last one whose the end.
    if (!fits(0) || !fits((rom.size() - 1) / block_bytes() * block_bytes())) {
      result_.warnings.push_back({"not_resumed", "the unfinished dump does not fit what is read now: begun anew"});
      return {};
    }
    state = *saved;
    result_.unstable = saved->unstable;
    ones_ = saved->places_1;
    for (const UnstablePlaces& places : unstable) add(result_.unstable, places);
    result_.resumed = true;
    return rom;
  }

  void add(UnstablePlaces& all, const UnstablePlaces& more) {
    constexpr std::size_t kMost = 16;
    if (more.bytes == 0) return;
    all.bytes += more.bytes;
    all.data_bits |= more.data_bits;
    for (std::size_t line = 0; line < all.by_line.size(); ++line) all.by_line[line] += more.by_line[line];
    for (const std::uint64_t cell : more.cells) note_cell(all, cell * UnstablePlaces::kCellBytes);
    for (const std::uint64_t offset : more.first_offsets)
      if (all.first_offsets.size() < kMost) all.first_offsets.push_back(offset);
    std::uint64_t own = 0;
    for (const unsigned bit : more.address_bits_1) own |= std::uint64_t{1} << bit;
    ones_ &= own;
    all.address_bits_1.clear();
    for (unsigned bit = 0; bit < 32; ++bit)
      if ((ones_ >> bit & 1) != 0) all.address_bits_1.push_back(bit);
  }

  /// Where only the ROM speaks of it the reader may have another opinion.
  Bytes read_save() {
    try {
      return read_all_of_save();
    } catch (const Error& e) {
      if (!plan_.save_shows_later || e.details.code != "range") throw;
      result_.warnings.push_back(
          {"no_save_read",
           fmt::format("its ROM speaks of {} of saves, and the reader finds none", human_size(save_bytes_))});
      return {};
    }
  }

  Bytes read_all_of_save() {
    context_.progress.begin("reading the save", save_bytes_);
    Bytes save;
    const std::uint64_t rom_ones = std::exchange(ones_, UINT64_MAX);
    while (save.size() < save_bytes_) {
      const TwiceRead block = first_reading(save_stretch(), save.size());
      add(result_.unstable_save, block.unstable);
      save.insert(save.end(), block.bytes.begin(), block.bytes.end());
    }
    ones_ = rom_ones;
    return save;
  }

  void read_clock() {
    if (!plan_.header.save.clock || plan_.machine->clock_registers == 0) return;
    try {
      result_.clock = hex(read_once(host_, ocr1::kClockSpace, 0, plan_.machine->clock_registers));
    } catch (const Error& e) {
      if (e.details.fault == Fault::interrupted || e.details.code == "cart_lost") throw;
      result_.warnings.push_back({"no_clock", "the cartridge has a clock, and this reader cannot read it"});
    }
  }

  bool was_moved() { return host_.cart_was_removed() || host_.state().insertions != plan_.insertions; }

  /// A cartridge that was changed in between would be a mixture of two.
  void make_sure_it_is_the_same() {
    const bool moved = was_moved();
    const auto header = plan_.raw.bytes.empty() || moved ? std::nullopt : host_.header();
    if (!moved && (plan_.raw.bytes.empty() || (header && header->bytes == plan_.raw.bytes))) return;
    if (!moved && is_unstable()) return;  // the contacts flicker: that is told already
    cart_changed();
  }
  bool is_unstable() const { return result_.unstable.bytes + result_.unstable_save.bytes > 0; }

  /// The second reading of all of it, or the third: of two cartridges with one header a reader that does not notice the
  /// exchange gives a mixture. One that makes sums reads it by itself, which no cable slows.
  void look_again(Bytes& rom, Bytes& save) {
    if (plan_.reader.sums && is_unstable()) return;  // told already
    if (!plan_.reader.sums) context_.progress.begin("reading it again", rom.size() + save.size());
    const std::size_t program = rom.size() - std::min<std::size_t>(rom.size(), plan_.character_bytes);
    look_again_at(rom_stretch(), std::span(rom).first(program), result_.unstable);
    look_again_at(character_stretch(), std::span(rom).subspan(program), result_.unstable);
    look_again_at(save_stretch(), save, result_.unstable_save);
  }

  void look_again_at(const Stretch& s, std::span<std::byte> bytes, UnstablePlaces& unstable) {
    const std::uint64_t rom_ones = std::exchange(ones_, UINT64_MAX);
    for (std::size_t at = 0; at < bytes.size(); at += plan_.reader.most_read) {
      const auto part = bytes.subspan(at, std::min<std::size_t>(plan_.reader.most_read, bytes.size() - at));
      const auto sum = plan_.reader.sums ? host_.sum(std::string(s.space), static_cast<std::uint32_t>(at),
                                                     static_cast<std::uint32_t>(part.size()))
                                         : std::nullopt;
      if (sum && *sum == to_upper_ascii(digest_of("crc32", part))) continue;
      UnstablePlaces found;
      for (std::size_t i = 0; i < part.size(); i += block_bytes())
        compare_again(s, s.first + at + i, part.subspan(i), found);
      // The sum met what nothing else did: then nobody knows where.
      if (sum && found.bytes == 0) found = somewhere_at(s.first + at);
      add(unstable, found);
    }
    ones_ = rom_ones;
  }

  /// The block that begins there, and what it was before; what most readings had takes its place.
  void compare_again(const Stretch& s, std::uint64_t at, std::span<std::byte> before, UnstablePlaces& found) {
    const std::span<std::byte> block = before.first(block_at(s, at, before.size()));
    if (!plan_.reader.sums) {
      const Bytes now = once(s, at, block.size());
      context_.progress.done_bytes += block.size();
      if (std::equal(now.begin(), now.end(), block.begin())) return;
    }
    TwiceRead again = twice(s, at, block.size());
    if (again.unstable.bytes == 0) {
      if (std::equal(again.bytes.begin(), again.bytes.end(), block.begin()) && plan_.reader.sums) return;
      // What was read twice alike, and is another twice alike, is another cartridge's; what was read once may flicker.
      if (plan_.reader.sums || !nearly_alike(again.bytes, block)) cart_changed();
      again.unstable = differences_at(s, at, block, again.bytes);
    }
    add(found, again.unstable);
    std::copy(again.bytes.begin(), again.bytes.end(), block.begin());
  }

  UnstablePlaces differences_at(const Stretch& s, std::uint64_t at, ByteView one, ByteView other) {
    UnstablePlaces places;
    std::uint64_t ones = UINT64_MAX;
    note_differences({Bytes(one.begin(), one.end()), Bytes(other.begin(), other.end())}, at, s.bus, places, ones);
    return places.bytes > 0 ? places : somewhere_at(at);  // a third reading was another one
  }

  void judge(const Bytes& rom) {
    Bytes file = plan_.front;
    file.insert(file.end(), rom.begin(), rom.end());
    result_.rom = rom::examine(plan_.machine, rom::Container{.header_bytes = plan_.front.size()}, file);
    for (const std::string& name : dump_.request_.hashes) result_.rom_hashes.push_back({name, digest_of(name, rom)});
    if (result_.rom->is_blank())
      throw Error({.fault = Fault::device,
                   .code = "blank",
                   .what = rom::fault_text(result_.rom->faults.front(), plan_.machine),
                   .hint = "nothing was written"});
    const auto problems = rom::problems_of(*result_.rom);
    const auto is_sum = [&](const rom::Problem& p) {
      return std::any_of(result_.rom->header.checks.begin(), result_.rom->header.checks.end(),
                         [&](const rom::Checksum& c) { return c.key == p.code; });
    };
    bool sums_wrong = false, broken = false;
    for (const rom::Problem& p : problems) {
      result_.warnings.push_back({p.code, p.message});
      const bool only_perhaps = p.code == to_string(rom::SizeStatus::possible_overdump);
      sums_wrong = sums_wrong || is_sum(p);
      broken = broken || (!is_sum(p) && !only_perhaps);
    }
    if (broken && plan_.machine->headerless && result_.rom->size.status == rom::SizeStatus::mirrored)
      result_.warnings.push_back({"mapper_doubt",
                                  "what repeats may be the first banks: with another mapper than the "
                                  "cartridge's a reader sees nothing else",
                                  "look the board up, and say it with <mapper>"});
    result_.verdict = broken                                            ? CartridgeVerdict::damaged
                      : sums_wrong || result_.unstable.bytes > 0        ? CartridgeVerdict::unsure
                      : result_.rom->is_confirmed() && problems.empty() ? CartridgeVerdict::proved
                                                                        : CartridgeVerdict::agreed;
    if (result_.verdict == CartridgeVerdict::agreed) doubt_quiet_lines(rom);
    if ((!plan_.header_readable && !plan_.machine->headerless) || plan_.more_behind)
      result_.verdict = std::max(result_.verdict, CartridgeVerdict::unsure);
  }

  /// Halves alike are a ROM of half the size, or a top address line without contact: where no checksum confirms the
  /// whole nobody can tell which.
  void doubt_quiet_lines(const Bytes& rom) {
    const ByteView program = ByteView(rom).first(rom.size() - static_cast<std::size_t>(plan_.character_bytes)),
                   character = ByteView(rom).subspan(program.size());
    const QuietLines quiet{0, quiet_lines(program).address | quiet_lines(character).address};
    if (!quiet.any()) return;
    result_.verdict = CartridgeVerdict::unsure;
    result_.warnings.push_back(
        {"line_quiet", fmt::format("{} makes no difference: no contact, or a smaller ROM than it "
                                   "was read for",
                                   quiet.text())});
  }

  void judge_save(const Bytes& save) {
    for (const std::string& name : dump_.request_.hashes) result_.save_hashes.push_back({name, digest_of(name, save)});
    result_.save_blank = std::all_of(save.begin(), save.end(), [&](std::byte b) { return b == save.front(); });
    if (result_.save_blank)
      result_.warnings.push_back({"save_blank", fmt::format("every byte of the save is {:02X}: nothing was ever saved, "
                                                            "or the battery is empty",
                                                            std::to_integer<unsigned>(save.front()))});
    if (result_.unstable_save.bytes > 0) {
      result_.warnings.push_back({"save_unstable", fmt::format("{} of the save differed between two readings",
                                                               plural(result_.unstable_save.bytes, "byte"))});
      result_.verdict = std::max(result_.verdict, CartridgeVerdict::unsure);
    }
    if (plan_.rom_bytes == 0 && result_.verdict == CartridgeVerdict::proved)
      result_.verdict = CartridgeVerdict::agreed;  // nothing but a second reading confirms a save
  }

  /// Where the ROM is read its judge finds them.
  void look_for_dead_lines(const Bytes& save) {
    const QuietLines dead = dead_lines(host_, plan_, save);
    if (!dead.any()) return;
    result_.verdict = CartridgeVerdict::damaged;
    result_.warnings.push_back(
        {"line_stuck", fmt::format("no contact: {} makes no difference, in the save and in the ROM", dead.text()),
         "clean the contacts with isopropyl alcohol, let them dry and read again"});
  }

  void write(const Bytes& rom, const Bytes& save) {
    OutputSet set(dump_.request_.existing, dump_.request_.inputs);
    const auto add_file = [&](const fs::path& path, const Bytes& front, const Bytes& bytes) {
      Output& output = set.add(path);
      Digest sha1("sha1");
      for (const Bytes* part : {&front, &bytes}) output.write(*part), sha1.update(*part);
      result_.outputs.push_back({path, front.size() + bytes.size(), sha1.finish()});
    };
    if (plan_.rom_bytes > 0) add_file(plan_.rom_file, plan_.front, rom);
    if (!save.empty()) add_file(plan_.save_file, {}, save);
    set.finish_writing();
    // What lies there is what was read, and nothing else gets the name.
    std::size_t i = 0;
    for (const CartridgeFile& file : result_.outputs) {
      const SourcePtr there = open_file(set.files()[i++]->temporary());
      const Bytes bytes = read_up_to(*there, 0, static_cast<std::size_t>(there->size()));
      if (digest_of("sha1", bytes) != file.sha1)
        throw Error({.fault = Fault::device,
                     .code = "proof_failed",
                     .what = "what was written is not what was read",
                     .file = file.path.string(),
                     .hint = "nothing was put in place; check the drive and the memory of this machine"});
    }
    set.commit();
    forget();
  }

  /// Nothing of an unfinished dump is left for the next run.
  void forget() const {
    std::error_code ignored;
    fs::remove(plan_.working, ignored);
    fs::remove(plan_.state, ignored);
  }

  CartridgeDump& dump_;
  const CartridgePlan& plan_;
  ReaderHost& host_;
  JobContext& context_;
  CartridgeResult result_;
  std::uint64_t save_bytes_ = plan_.save_bytes;
  std::uint64_t ones_ = UINT64_MAX;  // address bits that are 1 at every place that differed
};

CartridgeResult CartridgeDump::run(JobContext& context) { return CartridgeReading(*this, context).run(); }

}  // namespace opifex::dump
