// Opening the source, and the plan.
#include "opifex/core/dump/dump.hpp"

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <thread>

#include <sys/stat.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/naming.hpp"
#include "opifex/core/dump/read_offset.hpp"
#include "opifex/core/dump/sim.hpp"

#include "parts.hpp"

namespace opifex::dump {

using cd::Lba;

namespace {

constexpr std::string_view kSimulation = "sim:";
constexpr Lba kMostBlocks = 0x7FFFFFFF;

/// Stands where the sectors will be: which files a format would write, its layout alone tells.
class DiscToBeRead final : public ByteSource {
 public:
  explicit DiscToBeRead(std::uint64_t size) : size_(size) {}
  std::uint64_t size() const override { return size_; }
  std::string name() const override { return "the disc"; }
  void read_at(std::uint64_t, std::span<std::byte>) const override {
    throw Error({.code = "internal", .what = "a plan asks for sectors that are not read yet"});
  }

 private:
  std::uint64_t size_;
};

const Format* format_for(const std::filesystem::path& out, bool is_cd) {
  const std::string extension = fold_case(out.extension().string());
  for (const Format* f : formats())
    if (f->plan_write && f->owns(extension)) return f;
  return &usual_format(is_cd);
}

bool names_a_folder(const std::filesystem::path& out) {
  return out.empty() || out.string().ends_with('/') || std::filesystem::is_directory(out);
}

}  // namespace

std::string_view to_string(DumpVerdict verdict) {
  switch (verdict) {
    case DumpVerdict::intact:
      return "intact";
    case DumpVerdict::unsure:
      return "unsure";
    case DumpVerdict::damaged:
      return "damaged";
  }
  return "";
}

std::uint64_t DumpPlan::sectors() const {
  std::uint64_t sum = 0;
  for (const Region& r : regions) sum += static_cast<std::uint64_t>(r.end - r.first);
  return sum;
}

std::uint64_t DumpPlan::sector_bytes() const { return medium.kind == MediumKind::cd ? cd::kRawBytes : cd::kUserBytes; }

std::unique_ptr<DriveTransport> open_drive(const std::string& source) {
  if (!source.starts_with(kSimulation)) return open_sg_drive(source);
  return simulate_drive(load_simulation(source.substr(kSimulation.size())), source);
}

bool wait_for_disc(DriveTransport& transport, const std::stop_token& stop) {
  constexpr std::uint32_t kLook = 500;
  constexpr auto kBreath = std::chrono::milliseconds(20);  // a drive whose time is not ours must not keep us busy
  Drive drive(transport);
  while (!drive.has_medium()) {
    if (stop.stop_requested()) return false;
    transport.wait(kLook);
    std::this_thread::sleep_for(kBreath);
  }
  return !stop.stop_requested();
}

void eject(DriveTransport& transport) { Drive(transport).eject(); }

Dump::Dump(DumpRequest request) : Dump(std::move(request), nullptr) {}
Dump::Dump(DumpRequest request, DriveTransport& transport) : Dump(std::move(request), &transport) {}

Dump::Dump(DumpRequest request, DriveTransport* transport)
    : request_(std::move(request)), parts_(std::make_unique<Parts>()) {
  parts_->transport = transport;
  plan_.source = request_.source;
  open_source();
  guard_plan();
  if (plan_.medium.kind == MediumKind::cd)
    plan_cd();
  else
    plan_blocks();
  plan_outputs();
}

Dump::~Dump() {
  if (parts_->drive) parts_->drive->lock_tray(false);
}

void Dump::open_source() {
  const bool simulated = request_.source.starts_with(kSimulation);
  if (simulated) {
    const std::filesystem::path file = request_.source.substr(kSimulation.size());
    request_.inputs.add(file);
    request_.inputs.add(simulation_files(load_simulation(file)));
  }
  struct stat facts {};
  if (!simulated && ::stat(request_.source.c_str(), &facts) != 0)
    throw_system_error("cannot open the source", request_.source, errno);
  if (simulated || S_ISCHR(facts.st_mode) || S_ISBLK(facts.st_mode)) {
    try {
      if (!parts_->transport) {
        parts_->own_transport = open_drive(request_.source);
        parts_->transport = parts_->own_transport.get();
      }
      parts_->drive = std::make_unique<Drive>(*parts_->transport);
      plan_.medium = examine_medium(*parts_->drive);
      return;
    } catch (const Error& e) {
      // A partition or a USB stick is no optical drive, but has blocks.
      if (e.details.cause != Cause::not_a_drive || !S_ISBLK(facts.st_mode)) throw;
      parts_->drive.reset();
    }
  }
  auto device = std::make_unique<DeviceReader>(request_.source);
  plan_.medium.kind = MediumKind::blocks;
  plan_.medium.name = S_ISBLK(facts.st_mode) ? "block device" : "image of blocks";
  plan_.medium.blocks = device->size_bytes() / cd::kUserBytes;
  if (plan_.medium.blocks == 0 || (!S_ISBLK(facts.st_mode) && device->size_bytes() % cd::kUserBytes != 0))
    throw Error({.code = "not_blocks",
                 .what = "this is no image of 2048-byte blocks",
                 .file = request_.source,
                 .found = fmt::format("{} bytes", device->size_bytes()),
                 .expected = "a multiple of 2048",
                 .hint = "<job identify> says what it is, <job convert> reads it"});
  plan_.medium.blocks = std::min<std::uint64_t>(plan_.medium.blocks, kMostBlocks);
  Image image;
  image.path = request_.source;
  image.content = BlockContent{.bytes = open_file(request_.source)};
  plan_.medium.fingerprint =
      digest_of("sha1", as_view(fmt::format("blocks {}\n", plan_.medium.blocks) +
                                digest_of("sha1", read_up_to(*image.blocks(), 16 * cd::kUserBytes, cd::kUserBytes))));
  try {
    plan_.medium.identity = identify_platform(image);
  } catch (const Error&) {
    plan_.medium.warnings.push_back(
        {"not_identified", "the first sectors cannot be read: what disc this is stays open"});
  }
  parts_->reader = std::move(device);
}

/// A disc that is changed while it is looked at would get the name and layout of another.
void Dump::guard_plan() {
  if (!parts_->drive) return;
  parts_->drive->on_change([this] {
    Drive& drive = *parts_->drive;
    bool same = fingerprint_of(drive) == plan_.medium.fingerprint;
    for (const auto& [lba, sector] : plan_.medium.seen) {
      Bytes now(sector.size());
      const bool cd = plan_.medium.kind == MediumKind::cd;
      const Outcome outcome =
          cd ? drive.read_cd(lba, 1, {}, now) : drive.read_blocks(static_cast<std::uint32_t>(lba), 1, now, false);
      same = same && (!outcome.ok() || now == sector);
    }
    if (same) return;
    throw Error({.fault = Fault::device,
                 .code = "medium_changed",
                 .what = "the disc was changed while it was looked at",
                 .file = plan_.source,
                 .hint = "run the command again"});
  });
}

void Dump::plan_cd() {
  Drive& drive = *parts_->drive;
  Medium& medium = plan_.medium;
  medium.subchannel = subchannel_of(drive, medium.toc);
  const auto pregaps = find_pregaps(drive, medium.toc, medium.subchannel, medium.warnings);
  DiscLayout disc = make_layout(drive, medium, pregaps, medium.subchannel);
  plan_.layout = std::move(disc.layout);
  plan_.regions = regions_of(plan_.layout, disc.own_from);
  identify_cd(drive, medium, plan_.layout);
  std::vector<Region> audio;
  double seconds = 0;
  constexpr double kDataTimes = 24, kAudioTimes = 8, kReadings = 2;
  for (const Region& r : plan_.regions) {
    const bool music = r.kind == RegionKind::audio;
    if (music) audio.push_back(r);
    const double times = std::min(music ? kAudioTimes : kDataTimes,
                                  request_.top_speed != 0 ? static_cast<double>(request_.top_speed) : kDataTimes);
    seconds += (r.end - r.first) / (cd::kFramesPerSecond * times) * (music ? kReadings : 1);
  }
  plan_.expected_seconds = seconds;
  if (medium.subchannel != SubchannelPart::raw && std::exchange(request_.subchannel, false))
    medium.warnings.push_back({"no_subchannel", "this drive does not return the subchannel: no .sub file is written"});
  plan_.offset = request_.offset;
  if (!audio.empty()) look_for_offset();
  const CdReadOptions options{request_.offset.value_or(0), request_.subchannel, cd_speed(request_.top_speed)};
  parts_->reader = std::make_unique<CdReader>(drive, options, audio, plan_.layout.lead_out);
}

/// Music lies where the drive puts it. What is known of that is said before an hour is spent on reading.
void Dump::look_for_offset() {
  plan_.found_offset = find_read_offset(*parts_->drive, plan_.regions);
  const auto say = [&](const char* code, std::string text, std::string hint) {
    plan_.medium.warnings.push_back({code, std::move(text), std::move(hint)});
  };
  if (!plan_.found_offset) {
    if (!plan_.offset)
      say("offset_unknown", "the drive's read offset is not known: the music may lie a few samples off",
          "<offset> N corrects that, 0: none");
    return;
  }
  const int late = *plan_.found_offset;
  if (late == plan_.offset.value_or(0)) return;
  const std::string is = fmt::format("data read as music show that this drive plays this disc {} samples too {}",
                                     std::abs(late), late > 0 ? "late" : "early");
  if (plan_.offset)
    say("offset_differs", fmt::format("{}, and the offset that was given is {}", is, *plan_.offset),
        fmt::format("<offset> {} puts the music in place", late));
  else
    say("offset_found", is, fmt::format("<offset> {} puts it in place", late));
}

/// A few blocks by which this disc is known again.
void Dump::remember_blocks() {
  Medium& medium = plan_.medium;
  constexpr std::uint64_t kDescriptor = 16;
  for (const std::uint64_t lba : {kDescriptor, medium.blocks / 3, medium.blocks * 2 / 3}) {
    Bytes block(cd::kUserBytes);
    if (lba >= medium.blocks) continue;
    if (!parts_->drive->read_blocks(static_cast<std::uint32_t>(lba), 1, block, false).ok()) continue;
    if (!std::equal(block.begin() + 1, block.end(), block.begin()))
      medium.seen.emplace_back(static_cast<Lba>(lba), block);
  }
}

void Dump::plan_blocks() {
  Medium& medium = plan_.medium;
  const auto end = static_cast<Lba>(std::min<std::uint64_t>(medium.blocks, kMostBlocks));
  plan_.regions = {{0, end, RegionKind::blocks, 0, 0}};
  const bool blu_ray = medium.kind == MediumKind::bd;
  const unsigned one_x = blu_ray ? kBdSpeed : kDvdSpeed;
  SourcePtr first_sectors;
  if (parts_->drive) {
    constexpr unsigned kDvdUnit = 16, kBdUnit = 32, kUsualTimes = 6;
    parts_->reader =
        std::make_unique<BlockReader>(*parts_->drive, blu_ray ? kBdUnit : kDvdUnit, request_.top_speed * one_x, one_x);
    const unsigned top = parts_->drive->facts().top_speed_kbs;
    const unsigned kbs = request_.top_speed != 0 ? request_.top_speed * one_x : top != 0 ? top : kUsualTimes * one_x;
    plan_.expected_seconds = static_cast<double>(medium.blocks * cd::kUserBytes) / (kbs * 1000.0);
    first_sectors = drive_blocks(*parts_->drive, medium.blocks);
    remember_blocks();
  } else {
    first_sectors = open_file(request_.source);
  }
  parts_->blocks = first_sectors;
  try {
    plan_.ps3 = read_ps3_disc(*first_sectors);
  } catch (const Error& e) {
    if (e.details.cause != Cause::bad_region_map && e.details.cause != Cause::unreadable) throw;
    medium.warnings.push_back({e.details.code, e.details.what + ": the disc is dumped as it is"});
  }
  if (!plan_.ps3) return;
  medium.identity.platform = Ps3Disc::kPlatform;
  medium.identity.serial = plan_.ps3->title_id;
  if (medium.identity.title == "PS3VOLUME") medium.identity.title.clear();  // every disc is called so
  if (!plan_.ps3->has_encrypted() || request_.key_file.empty()) return;
  const auto keys = KeyRing::read(request_.key_file);
  const ChosenKey chosen = choose_disc_key(*plan_.ps3, first_sectors, *keys, medium.identity.title);
  if (!chosen.found) {
    medium.warnings.push_back({"no_key", fmt::format("no key for {} is there ({}): the disc is dumped encrypted",
                                                     plan_.ps3->title_id, keys->described())});
    return;
  }
  const KeyProof proof = chosen.proof;
  if (proof == KeyProof::already_plain) {
    medium.warnings.push_back(
        {"already_plain", "the disc's encrypted regions are plain already: it is dumped as it is"});
    return;
  }
  if (proof != KeyProof::right)
    throw Error({.code = proof == KeyProof::wrong ? "wrong_key" : "key_unproved",
                 .what = proof == KeyProof::wrong ? "the key does not fit this disc"
                                                  : "the disc has no file by which the key could be proved",
                 .file = request_.key_file.string(),
                 .expected = "the disc key of " + plan_.ps3->title_id,
                 .hint = "without <key-file> the disc is dumped encrypted; it can be decrypted later"});
  parts_->key = chosen.key;
  plan_.decrypts = true;
}

Image Dump::image_of(SourcePtr data) const {
  Image image;
  image.format = plan_.format;
  image.path = plan_.source;
  if (plan_.medium.kind != MediumKind::cd) {
    image.format = &bare_format(Stored::blocks);  // what comes from the disc is no container yet
    image.content = BlockContent{.bytes = std::move(data)};
    return image;
  }
  std::vector<Extent> extents;
  std::uint64_t offset = 0;
  for (const cd::Track& t : plan_.layout.tracks) {
    const auto sectors = static_cast<std::uint32_t>(t.end_lba - t.pregap_lba);
    extents.push_back({.track = t.number, .lba = t.pregap_lba, .sectors = sectors, .source = data, .offset = offset});
    offset += std::uint64_t{sectors} * cd::kRawBytes;
  }
  image.content = CdContent{std::make_shared<CdImage>(plan_.layout, std::move(extents))};
  return image;
}

void Dump::plan_outputs() {
  const bool is_cd = plan_.medium.kind == MediumKind::cd;
  const bool folder = names_a_folder(request_.out);
  plan_.format = request_.format ? request_.format : format_for(folder ? "" : request_.out, is_cd);
  // A container of a header and data files names them itself.
  const std::string extension(plan_.format->shape == Shape::tree ? "" : plan_.format->extensions.front());
  const auto plan_for = [&](const std::filesystem::path& lead) {
    plan_.lead = lead;
    plan_.map = std::filesystem::path(lead).replace_extension().string() + ".opifex-map";
    plan_.files.clear();
    // Of a CD its layout is enough; some formats look into a disc of blocks, so that it has to be there.
    const Image image =
        image_of(is_cd ? std::make_shared<DiscToBeRead>(plan_.sectors() * plan_.sector_bytes()) : parts_->blocks);
    if (!is_cd && !plan_.format->holds.blocks)
      throw Error({.code = "not_a_cd",
                   .what = fmt::format("{} holds CDs, and this is none", plan_.format->id),
                   .file = plan_.source,
                   .found = plan_.medium.name,
                   .hint = "<to> iso holds every disc of 2048-byte blocks"});
    for (const PlannedOutput& o : plan_.format->plan_write(image, lead, {}).outputs)
      plan_.files.push_back({o.path, o.size_bytes});
    if (request_.subchannel && is_cd)
      plan_.files.push_back(
          {std::filesystem::path(lead).replace_extension(".sub"), plan_.sectors() * cd::kSubchannelBytes});
  };
  const auto taken = [&] {
    return std::any_of(plan_.files.begin(), plan_.files.end(),
                       [](const PlannedFile& f) { return std::filesystem::exists(f.path); });
  };
  if (!folder) {
    std::filesystem::path lead = request_.out;
    if (!extension.empty() && fold_case(lead.extension().string()) != extension) lead += extension;
    plan_for(lead);
  } else {
    const DumpName name = name_of(plan_.medium);
    const std::filesystem::path inside = name.set.empty() ? request_.out : request_.out / name.set;
    plan_for(inside / (name.stem + extension));
    if (request_.name_by_serial && taken() && !plan_.medium.identity.serial.empty())
      plan_for(inside / (name.stem + " [" + plan_.medium.identity.serial + "]" + extension));
  }
  plan_.target = target_facts(plan_.lead.parent_path());
  if (!request_.file_system.empty()) plan_.target = with_file_system(plan_.target, request_.file_system);

  // Losses that show in the layout are said before the disc is read; those that hide in sectors, before writing.
  if (is_cd) {
    const cd::Track* data = plan_.layout.first_data_track();
    plan_.losses = layout_losses(plan_.layout, plan_.format->holds, data ? data->number : 0);
    for (Loss& loss : plan_.losses)
      loss.accepted = !is_content_loss(loss.kind) || request_.accepted.contains(loss.kind);
  }
  if (const auto saved = saved_state(); saved && saved->fact("medium") == plan_.medium.fingerprint) {
    const auto done =
        saved->map.count_if([](SectorState s) { return s != SectorState::untried && s != SectorState::outside; });
    plan_.resumes_at = static_cast<double>(done) / static_cast<double>(std::max<std::uint64_t>(1, plan_.sectors()));
  }
}

void Dump::check_plan() const {
  refuse_losses(plan_.losses, plan_.source, *plan_.format, usual_format(plan_.medium.kind == MediumKind::cd).id);
  std::vector<std::filesystem::path> targets;
  for (const PlannedFile& f : plan_.files) targets.push_back(f.path);
  refuse_existing(targets, request_.inputs, request_.existing);
  if (const auto saved = saved_state(); saved && !request_.restart) refuse_other(*saved);
  std::vector<PlannedFile> files = plan_.files;
  // What an unfinished dump holds already needs no more room; another format needs the raw sectors beside it.
  std::error_code ignored;
  const auto working = WorkingFiles::beside(plan_.lead).data;
  const bool renamed = plan_.format->stored == (plan_.medium.kind == MediumKind::cd ? Stored::sectors : Stored::blocks);
  if (!renamed) files.push_back({working, plan_.sectors() * plan_.sector_bytes()});
  TargetFacts target = plan_.target;
  if (const auto there = std::filesystem::file_size(working, ignored); !ignored && target.free_bytes != UINT64_MAX)
    target.free_bytes += there;
  check_fits(files, target);
}

}  // namespace opifex::dump
