#include "other_forms.hpp"

#include <algorithm>

namespace opifex {

using cd::Lba;

/// One file that the image would be in another form.
class OtherForms::Form {
 public:
  Form(const Image& image, int track, std::string through, std::uint64_t size, const CheckOptions& options)
      : track_(track), path_(image.path), through_(std::move(through)), size_(size), names_(options.hashes) {
    for (const std::string& name : names_) digests_.emplace_back(name);
  }
  virtual ~Form() = default;

  virtual void sectors(const Extent&, Lba, ByteView) {}
  virtual void blocks(std::uint64_t, ByteView) {}

  int track() const { return track_; }
  OtherForm finish() {
    OtherForm form{.track = track_, .through = through_, .file = {path_, size_, {}}};
    if (void_ || done_ != size_) return form;
    for (std::size_t i = 0; i < names_.size(); ++i) form.file.hashes.push_back({names_[i], digests_[i].finish()});
    return form;
  }

 protected:
  void take(ByteView bytes) {
    if (done_ + bytes.size() > size_) return give_up();
    for (Digest& digest : digests_) digest.update(bytes);
    done_ += bytes.size();
  }
  /// Nobody can say what the file would be.
  void give_up() { void_ = true; }
  bool given_up() const { return void_; }

 private:
  int track_;
  std::filesystem::path path_;
  std::string through_;
  std::uint64_t size_, done_ = 0;
  std::vector<std::string> names_;
  std::vector<Digest> digests_;
  bool void_ = false;
};

namespace {

Lba first_of(const Image& image, int track) {
  for (const Extent& e : image.cd()->extents())
    if (e.track == track) return e.lba;
  return 0;
}

/// The user data of a track of whole sectors: an ISO.
class UserData final : public OtherForms::Form {
 public:
  UserData(const Image& image, int track, std::uint64_t size, const CheckOptions& options)
      : Form(image, track, "its user data, as an ISO", size, options), next_(first_of(image, track)) {}

  void sectors(const Extent& e, Lba lba, ByteView stored) override {
    const std::size_t each = stored_bytes(e.form);
    Bytes user;
    user.reserve(stored.size() / each * cd::kUserBytes);
    for (std::size_t at = 0; at + each <= stored.size() && !given_up(); at += each, ++lba) {
      if (lba != next_) return give_up();
      ++next_;
      const std::optional<ByteView> data = user_data(e.form, stored.subspan(at, each));
      if (!data) return give_up();
      user.insert(user.end(), data->begin(), data->end());
    }
    take(user);
  }

 private:
  /// Nothing of a sector that an ISO cannot have.
  static std::optional<ByteView> user_data(StoredForm form, ByteView sector) {
    if (form == StoredForm::mode2) {
      const bool form2 = (sector[2] & cd::kSubmodeForm2) != std::byte{0};
      return form2 ? std::nullopt : std::optional(sector.subspan(cd::kMode2UserAt - cd::kSubheaderAt, cd::kUserBytes));
    }
    const cd::SectorView raw = sector.first<cd::kRawBytes>();
    if (!cd::has_sync(raw)) return std::nullopt;
    const auto mode = cd::header_mode(raw);
    if (mode == 1) return sector.subspan(cd::kMode1UserAt, cd::kUserBytes);
    const bool form1 = mode == 2 && (cd::subheader(raw).submode & 0x20U) == 0;
    return form1 ? std::optional(sector.subspan(cd::kMode2UserAt, cd::kUserBytes)) : std::nullopt;
  }

  Lba next_;
};

/// The Mode 1 sectors of user data: all that stands around them is determined (ECMA-130, 14).
class WholeSectors final : public OtherForms::Form {
 public:
  WholeSectors(const Image& image, int track, Lba first, std::uint64_t size, const CheckOptions& options)
      : Form(image, track, "its sectors made whole, as a bin", size, options), next_(first) {}

  void sectors(const Extent&, Lba lba, ByteView stored) override {
    if (lba != next_) return give_up();
    add(stored);
  }
  void blocks(std::uint64_t at, ByteView bytes) override {
    if (at != std::uint64_t{cd::kUserBytes} * static_cast<std::uint64_t>(next_)) return give_up();
    add(bytes);
  }

 private:
  void add(ByteView user) {
    if (user.size() % cd::kUserBytes != 0) return give_up();
    constexpr std::size_t kAtOnce = 256;
    Bytes raw(kAtOnce * cd::kRawBytes);
    while (!user.empty()) {
      const std::size_t count = std::min(kAtOnce, user.size() / cd::kUserBytes);
      for (std::size_t i = 0; i < count; ++i)
        cd::make_mode1(std::span(raw).subspan(i * cd::kRawBytes).first<cd::kRawBytes>(), next_++,
                       user.subspan(i * cd::kUserBytes).first<cd::kUserBytes>());
      take(ByteView(raw).first(count * cd::kRawBytes));
      user = user.subspan(count * cd::kUserBytes);
    }
  }

  Lba next_;
};

bool has_user_data(StoredForm form) {
  return form == StoredForm::raw || form == StoredForm::raw_with_pw || form == StoredForm::raw_with_q ||
         form == StoredForm::mode2;
}

/// Sectors of a track. None if one of them is stored in a form that `fits` does not take, or lies before LBA 0: a file
/// of user data has no place for it.
std::uint64_t sectors_of(const Image& image, int track, bool (*fits)(StoredForm)) {
  std::uint64_t count = 0;
  for (const Extent& e : image.cd()->extents()) {
    if (e.track != track) continue;
    if (!fits(e.form) || e.lba < 0) return 0;
    count += e.sectors;
  }
  return count;
}

/// Files that hold more than sectors are not their content alone.
bool all_are_sectors(const Image& image) {
  if (image.container) return true;
  std::uint64_t bytes = 0;
  for (const Extent& e : image.cd()->extents()) bytes += e.size_bytes();
  return bytes == image.size_bytes();
}

constexpr std::uint64_t kMostSectors = 450'000;  // 99:59:74, what a header can say

}  // namespace

OtherForms::OtherForms(const Image& image, const CheckOptions& options) {
  if (!options.wants_whole || options.hashes.empty()) return;
  const auto wanted = [&](std::uint64_t size) { return size > 0 && options.wants_whole(size); };
  if (!image.cd()) {
    const SourcePtr disc = image.blocks() ? image.stored_blocks() : nullptr;
    const std::uint64_t sectors = disc ? disc->size() / cd::kUserBytes : 0;
    if (sectors == 0 || sectors > kMostSectors || disc->size() % cd::kUserBytes != 0) return;
    if (wanted(sectors * cd::kRawBytes))
      forms_.push_back(std::make_unique<WholeSectors>(image, 0, 0, sectors * cd::kRawBytes, options));
    return;
  }
  const auto& tracks = image.cd()->layout().tracks;
  if (!all_are_sectors(image)) return;
  for (const cd::Track& t : tracks) {
    if (t.mode.is_audio()) continue;
    // The mode of a disc of which the user data are left is a guess: what the sectors were, the hash tells.
    const auto is_cooked = [](StoredForm form) {
      return form == StoredForm::mode1_user || form == StoredForm::form1_user;
    };
    const std::uint64_t cooked = sectors_of(image, t.number, is_cooked);
    if (cooked <= kMostSectors && wanted(cooked * cd::kRawBytes))
      forms_.push_back(
          std::make_unique<WholeSectors>(image, t.number, first_of(image, t.number), cooked * cd::kRawBytes, options));
    const std::uint64_t raw = sectors_of(image, t.number, has_user_data);
    // Of a disc with more tracks the user data of one would not be the disc.
    if (tracks.size() == 1 && wanted(raw * cd::kUserBytes))
      forms_.push_back(std::make_unique<UserData>(image, t.number, raw * cd::kUserBytes, options));
  }
}

OtherForms::~OtherForms() = default;

void OtherForms::sectors(std::size_t lane, const Extent& extent, Lba lba, ByteView stored) {
  if (forms_[lane]->track() == extent.track) forms_[lane]->sectors(extent, lba, stored);
}

void OtherForms::blocks(std::size_t lane, std::uint64_t at, ByteView bytes) { forms_[lane]->blocks(at, bytes); }

std::vector<OtherForm> OtherForms::finish() {
  std::vector<OtherForm> all;
  for (const auto& form : forms_)
    if (OtherForm done = form->finish(); !done.file.hashes.empty()) all.push_back(std::move(done));
  return all;
}

}  // namespace opifex
