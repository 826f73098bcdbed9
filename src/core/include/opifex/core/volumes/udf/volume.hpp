/// UDF 1.02 to 2.60 (ECMA-167, OSTA UDF), reading.
#pragma once

#include "opifex/core/volumes/volume.hpp"

namespace opifex {

/// True if the volume recognition sequence says so: BEA01 ... NSR02 or NSR03 ... in the sectors from 16 on (ECMA-167,
/// 2/9.1). A look only: the file system may still be broken.
bool has_udf(const ByteSource& disc);

/// True if its anchor is there (ECMA-167, 3/10.2), whatever the recognition sequence says.
bool has_udf_anchor(const ByteSource& disc);

/// Nothing if there is no UDF file system. One that is there but cannot be read (virtual and sparable partitions,
/// broken structures) gives a volume without entries whose problems say why.
std::optional<Volume> read_udf(SourcePtr disc);

}  // namespace opifex
