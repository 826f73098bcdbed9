/// UDF 1.02 to 2.60 (ECMA-167, OSTA UDF), reading.
#pragma once

#include "opifex/core/volumes/volume.hpp"

namespace opifex {

/// Nothing if there is no UDF file system. One that is there but cannot be read (virtual and sparable partitions,
/// broken structures) gives a volume without entries whose problems say why.
std::optional<Volume> read_udf(SourcePtr disc);

}  // namespace opifex
