/// What a data disc would be in the other of its two usual forms: bare user data, or whole sectors.
#pragma once

#include <memory>
#include <vector>

#include "opifex/core/check/check.hpp"

namespace opifex {

/// Hashes an image as a file of another form has it, from the bytes that come by in a check. One lane for each form;
/// a lane must see its sectors in order.
class OtherForms {
 public:
  /// Forms that somebody knows by their size, by `options.wants_whole`.
  OtherForms(const Image& image, const CheckOptions& options);
  ~OtherForms();

  std::size_t lanes() const { return forms_.size(); }
  /// Stored sectors of an extent.
  void sectors(std::size_t lane, const Extent& extent, cd::Lba lba, ByteView stored);
  /// Bytes of a disc of blocks, from `at` of the disc.
  void blocks(std::size_t lane, std::uint64_t at, ByteView bytes);
  /// Those that came out whole.
  std::vector<OtherForm> finish();

  class Form;

 private:
  std::vector<std::unique_ptr<Form>> forms_;
};

}  // namespace opifex
