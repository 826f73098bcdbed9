/// The disc that several dumps give together, as bytes.
#pragma once

#include "joiner.hpp"

namespace opifex {

/// The result, decided anew for each sector that the inputs do not agree on: nothing of it is held in memory.
class JoinedSource final : public ByteSource {
 public:
  /// Sectors `first` to `end`; `ranges` cover them, in order.
  JoinedSource(std::shared_ptr<const Joiner> joiner, cd::Lba first, cd::Lba end,
               std::shared_ptr<const std::vector<RescueRange>> ranges)
      : joiner_(std::move(joiner)), first_(first), end_(end), ranges_(std::move(ranges)) {}
  std::uint64_t size() const override { return static_cast<std::uint64_t>(end_ - first_) * joiner_->sector_bytes(); }
  std::string name() const override { return "the joined dumps"; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override;

 private:
  const RescueRange& range_at(cd::Lba lba) const;
  void make(cd::Lba lba, const RescueRange& range, std::span<std::byte> out) const;

  std::shared_ptr<const Joiner> joiner_;
  cd::Lba first_, end_;
  std::shared_ptr<const std::vector<RescueRange>> ranges_;
};

}  // namespace opifex
