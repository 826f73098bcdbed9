// Intact is a ROM about which everything that its kind lets one know was looked at, and fits. A checksum that is wrong
// is told as what it is, although some cartridges were sold with one: nobody can tell those from a bad reading.
#include "rom_judge.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

using rom::SizeStatus;
using rom::SumState;

class RomJudge {
 public:
  explicit RomJudge(const rom::Examined& rom) : rom_(rom) {}

  RomJudgement run() {
    container();
    if (!rom_.machine)
      unrecognised();
    else if (!all_the_same())
      known();
    return std::move(out_);
  }

 private:
  void find(std::string code, Severity severity, std::string message) {
    out_.findings.push_back({std::move(code), severity, std::move(message)});
  }
  void fault(std::string code, std::string message, Verdict verdict) {
    find(std::move(code), Severity::error, std::move(message));
    out_.verdict = std::max(out_.verdict, verdict);
  }

  void container() {
    if (rom_.container.interleaved)
      find("interleaved", Severity::note, "the ROM lies in interleaved blocks behind a copier's header of 512 bytes");
    else if (rom_.container.header_bytes == rom::kCopierHeader)
      find("copier_header", Severity::note, "in front of the ROM is a copier's header of 512 bytes");
    if (rom_.container.more_parts)
      find("more_parts", Severity::warning, "the copier's header says that another file goes on with it");
    if (rom_.container.order != rom::ByteOrder::big)
      find("byte_order", Severity::note,
           fmt::format("the bytes of each word are {}: put right before anything was judged",
                       rom_.container.order == rom::ByteOrder::little ? "in little-endian order" : "swapped in pairs"));
  }

  /// Every byte alike: that alone is told, for all else follows from it.
  bool all_the_same() {
    if (!rom_.is_blank()) return false;
    fault(rom_.faults.front(), rom::fault_text(rom_.faults.front(), rom_.machine), Verdict::damaged);
    return true;
  }

  void unrecognised() {
    if (all_the_same()) return;
    for (const std::string& f : rom_.faults) find(f, Severity::warning, rom::fault_text(f, nullptr));
    fault("not_judged",
          "no header of a known machine fits: which checksums and what size it should have, nobody can tell",
          Verdict::unsupported);
  }

  void known() {
    for (const std::string& f : rom_.faults) fault(f, rom::fault_text(f, rom_.machine), Verdict::damaged);
    for (const rom::Checksum& sum : rom_.header.checks) checksum(sum);
    size();
    if (rom_.header.logo == rom::Logo::other || rom_.header.logo == rom::Logo::first_half)
      find("other_logo", Severity::note,
           "the logo in the header is not the one that the console compares: it would not start this");
    const bool wrong = std::any_of(rom_.header.checks.begin(), rom_.header.checks.end(),
                                   [](const rom::Checksum& c) { return c.whole && c.state == SumState::wrong; });
    if (!rom_.is_confirmed() && !wrong)
      find("no_whole_checksum", Severity::note,
           "no checksum over the whole ROM confirms it: read twice, and compare, or look it up in a list");
  }

  void checksum(const rom::Checksum& sum) {
    if (sum.state == SumState::right)
      return find(sum.key + "_right", Severity::note,
                  sum.found.empty() ? sum.name + " is right" : fmt::format("{} is right ({})", sum.name, sum.found));
    if (sum.state == SumState::not_checked)
      return find(sum.key + "_not_checked", Severity::note, fmt::format("{}: not checked, {}", sum.name, sum.why_not));
    if (sum.whole && rom_.right_at_true_size)
      return find(sum.key + "_right", Severity::note, fmt::format("{} is right over its true size", sum.name));
    fault(sum.key,
          fmt::format("{} is wrong: the header says {}, the bytes give {}; {}", sum.name, sum.expected, sum.found,
                      sum.whole ? "a bad reading, a changed ROM, or a cartridge that was sold so"
                                : "the header was misread or changed"),
          Verdict::damaged);
  }

  static std::string bytes(std::optional<std::uint64_t> n) { return n ? human_size(*n) : "unknown"; }

  void size() {
    const rom::SizeVerdict& v = rom_.size;
    const std::string here = human_size(rom_.rom_bytes), chip = bytes(v.true_bytes),
                      told = bytes(rom_.header.declared_bytes);
    switch (v.status) {
      case SizeStatus::exact:
        return find("exact", Severity::note, fmt::format("its size is right: {}", told));
      case SizeStatus::plausible:
        return find("plausible", Severity::note,
                    fmt::format("its size, {}, may well be right: no header tells it on this machine", here));
      case SizeStatus::larger_than_declared:
        return find("larger-than-declared", Severity::note,
                    fmt::format("it is {}, and the header covers {}: usual on this machine", here, told));
      case SizeStatus::mirrored:
        return mirrored(chip);
      case SizeStatus::overdump:
        return fault("overdump",
                     fmt::format("it was read too far: the chip has {}, and behind it {}", chip, filler_text(v.filler)),
                     Verdict::repairable);
      case SizeStatus::oversize:
        return fault(
            "oversize",
            fmt::format("it has {}, the header says {}, and the rest is data: a wrong header, several games in "
                        "one, or garbage; nothing of it is ever cut off",
                        here, told),
            Verdict::damaged);
      case SizeStatus::trimmed:
        return fault("trimmed",
                     fmt::format("its end was cut off, and was nothing but {}: padded to {}, its checksum is right",
                                 v.filler == rom::Filler::ff ? "FF" : "00", chip),
                     Verdict::repairable);
      case SizeStatus::underdump:
        return fault("underdump",
                     fmt::format("only {} of {} are there: set the reader to the full size and read again", here, chip),
                     Verdict::incomplete);
      case SizeStatus::possible_overdump:
        return find("possible-overdump", Severity::warning,
                    fmt::format("at least half of it is one run of {}: it may have been read too far, and the chip may "
                                "have {}",
                                v.filler == rom::Filler::ff ? "FF" : "00", chip));
      case SizeStatus::odd_size:
        return fault("odd-size", fmt::format("{} is not the size of any chip: it was cut off, or trimmed", here),
                     Verdict::incomplete);
      case SizeStatus::unknown:
        return fault("unknown-size", "its header gives sizes that no cartridge has", Verdict::damaged);
    }
  }

  void mirrored(const std::string& chip) {
    if (rom_.is_confirmed())
      return find(
          "mirrored", Severity::note,
          fmt::format("both halves are alike, and the checksum over the whole is right: the chip may have {}", chip));
    fault("mirrored",
          fmt::format("both halves are alike: the topmost address line has no contact, or the header says too much "
                      "and the chip has {}; clean the contacts and read again",
                      chip),
          Verdict::damaged);
  }

  static std::string filler_text(rom::Filler filler) {
    switch (filler) {
      case rom::Filler::mirror:
      case rom::Filler::tail_mirror:
        return "its contents repeat";
      case rom::Filler::ff:
        return "stands nothing but FF";
      case rom::Filler::zero:
        return "stands nothing but 00";
      case rom::Filler::open_bus:
        return "the bus gives back the address";
      case rom::Filler::none:
        break;
    }
    return "stands no data";
  }

  const rom::Examined& rom_;
  RomJudgement out_;
};

}  // namespace

RomJudgement judge_rom(const rom::Examined& rom) { return RomJudge(rom).run(); }

}  // namespace opifex
