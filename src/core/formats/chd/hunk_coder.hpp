/// Which codec a hunk is stored with.
#pragma once

#include "encoder.hpp"

namespace opifex::chd {

/// A hunk coded, or found not to pay.
struct CodedHunk {
  int slot = -1;  ///< of the codec; -1: stored as it is
  Bytes bytes = {};
};

/// One thread's encoder with a list of codecs.
class HunkCoder {
 public:
  HunkCoder(std::vector<std::string> codecs, Effort effort);
  /// The smallest form: of all codecs (`best`), of those whose estimate could still be the smallest (`normal`), or of
  /// the one with the best estimate (`fast`). At equal size the lower slot. Depends on the hunk and the codecs alone.
  CodedHunk code(ByteView hunk);

 private:
  struct Candidate {
    int slot = 0;
    double expected = 0, least = 0;  // bytes
  };
  std::vector<Candidate> candidates();

  std::vector<std::string> codecs_;
  Effort effort_;
  Encoder encoder_;
};

}  // namespace opifex::chd
