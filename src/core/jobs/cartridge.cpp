#include "opifex/core/jobs/cartridge.hpp"

#include <algorithm>
#include <array>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/reader_source.hpp"
#include "opifex/core/formats/rom/convert.hpp"
#include "opifex/core/jobs/save.hpp"
#include "opifex/core/jobs/settings.hpp"

#include "ask_lists.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

constexpr std::string_view kNesMapper = "nes:";

/// As readers call it (reader-protocol, section 4).
std::string mapper_of(const std::string& word) {
  static constexpr std::array<std::string_view, 9> kNames = {"none",  "mbc1",  "mbc2",    "mbc3", "mbc5",
                                                             "lorom", "hirom", "exhirom", "sega"};
  if (word.empty() || std::find(kNames.begin(), kNames.end(), word) != kNames.end()) return word;
  const std::string number = word.starts_with(kNesMapper) ? word.substr(kNesMapper.size()) : word;
  constexpr std::uint32_t kMost = 4095;
  const auto n = dump::ocr1::parse_number(number);
  if (!n || *n > kMost)
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "no such mapper is known",
                 .found = printable(word),
                 .expected = fmt::format("a number from 0 to 4095 (NES), or {}", fmt::join(kNames, ", "))});
  return fmt::format("{}{}", kNesMapper, *n);
}

/// Of an NES cartridge, which tells none of it: mapper 0 where the user does not say.
void take_nes_word(dump::CartridgeRequest& request, const Settings& settings) {
  if (request.machine && request.machine->headerless) {
    if (request.mapper.empty()) request.mapper = fmt::format("{}0", kNesMapper);
    const auto number = dump::ocr1::parse_number(
        request.mapper.starts_with(kNesMapper) ? request.mapper.substr(kNesMapper.size()) : "0");
    const std::string mirroring = settings.text(kMirroring);
    request.character_unknown = !settings.has(kCharacterSize);
    request.nes = rom::NesWord{.mapper = number.value_or(0),
                               .character_bytes = settings.bytes(kCharacterSize).value_or(0),
                               .vertical = mirroring == "vertical",
                               .four_screen = mirroring == "four-screen"};
    return;
  }
  if (settings.has(kCharacterSize) || settings.text(kMirroring) != "horizontal" ||
      request.mapper.starts_with(kNesMapper))
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "only NES cartridges have a character ROM, mirroring and numbered mappers",
                 .hint = "<system> nes says that it is one"});
}

}  // namespace

DumpCartridgeJob DumpCartridgeJob::of(const std::string& source, const Settings& settings) {
  if (settings.text(kOut).empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "dump needs a path for the files",
                 .hint = "<out> PATH: a folder will do, the cartridge's title names them"});
  DumpCartridgeJob job{.source = source, .request = {}};
  dump::CartridgeRequest& request = job.request;
  request.out = settings.text(kOut);
  if (settings.has(rom::kSystem)) request.machine = rom::find_machine(settings.text(rom::kSystem));
  request.rom_bytes = settings.bytes(kRomSize);
  request.save_bytes = settings.bytes(kSaveSize);
  request.mapper = mapper_of(settings.text(kMapper));
  take_nes_word(request, settings);
  request.part = settings.choice<dump::CartridgePart>(kOnly);
  request.existing = settings.flag(kOverwrite) ? Existing::replace : Existing::keep;
  request.inputs = named_inputs({source}, settings, dump_settings());
  request.file_system = settings.text(kFileSystem);
  request.restart = settings.flag(kRestart);
  request.hashes = settings.list(kHashes);
  if (request.hashes == std::vector<std::string>{"none"}) request.hashes.clear();
  for (const std::string& name : request.hashes) Digest known(name);
  if (const auto time = settings.milliseconds(kSaveEvery)) request.save_every_ms = *time;
  job.against = settings.all(kAgainst);
  job.plan_only = settings.flag(kPlan);
  job.record = settings.flag(kRecord);
  return job;
}

namespace {

/// Whatever happens, the cartridge is switched off at the end.
class SwitchedOff {
 public:
  explicit SwitchedOff(dump::CartridgeDump& dump) : dump_(dump) {}
  ~SwitchedOff() { dump_.leave(); }
  SwitchedOff(const SwitchedOff&) = delete;
  SwitchedOff& operator=(const SwitchedOff&) = delete;

 private:
  dump::CartridgeDump& dump_;
};

/// A save that is going to be replaced is kept: it may be all that is left of somebody's game.
void keep_save(const dump::CartridgePlan& plan) {
  if ((plan.save_bytes == 0 && !plan.save_shows_later) || !fs::exists(plan.save_file)) return;
  const SourcePtr old = open_file(plan.save_file);
  SaveHistory(plan.save_file, {})
      .store(read_up_to(*old, 0, static_cast<std::size_t>(old->size())), "before it was dumped again");
}

}  // namespace

Outcome run(const DumpCartridgeJob& job, Listener& listener, JobContext& context) {
  const AskedLists lists(job.against, job.cache, listener, context);
  dump::ReaderSource source(job.source);
  dump::CartridgeRequest request = job.request;
  request.inputs.add(source.files());
  const InputFiles inputs = request.inputs;
  dump::CartridgeDump dump(std::move(request), source.link(), context.progress.stop);
  const SwitchedOff afterwards(dump);
  DumpedCartridge told{.source = job.source, .plan = dump.plan(), .inputs = inputs};
  told.existing = job.request.existing;
  if (job.record) {
    const std::string base = fs::path(dump.plan().rom_file).replace_extension().string();
    told.record_text = base + ".dump.txt";
    told.record_json = base + ".dump.json";
  }
  if (job.plan_only) {
    listener.result(told);
    dump.check_plan();  // the plan runs into the same walls as the job would
    return {};
  }
  dump.check_plan();
  if (job.record) refuse_existing({told.record_text, told.record_json}, inputs, told.existing);
  told.begins = true;
  listener.result(told);
  keep_save(dump.plan());
  const dump::CartridgeResult result = dump.run(context);
  told.begins = false;
  told.result = &result;
  // A save alone is in no list.
  const bool has_rom = dump.plan().rom_bytes > 0;
  std::vector<KnownAnswer> answers;
  if (lists.any() && has_rom) answers = lists.ask(dump.plan().rom_file, context);
  told.known = answers.empty() ? nullptr : &answers;
  listener.result(told);
  const bool known = !lists.any() || !has_rom || is_known(answers);
  return {.good = known && result.verdict <= dump::CartridgeVerdict::agreed};
}

}  // namespace opifex::jobs
