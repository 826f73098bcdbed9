/// What a hunk will need with each kind of codec, told from its statistics: cheaper by far than coding it.
#pragma once

#include "opifex/core/base/bytes.hpp"

namespace opifex::chd {

/// Bytes that a prefix code of the single bytes would take.
double plain_entropy(ByteView data);
/// The same with the upper three bits of the byte before as context: what LZMA has for bytes that match nothing.
double context_entropy(ByteView data);
/// Bytes that FLAC needs for 16-bit stereo samples: Rice codes of the best fixed predictor (RFC 9639, 9.2.5), the
/// stereo form that takes least. At least 16 samples.
double sound_size(ByteView data, bool big_endian);

}  // namespace opifex::chd
