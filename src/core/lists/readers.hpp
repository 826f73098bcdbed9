/// The three readers. Each fills a builder, or throws what refuses the list.
#pragma once

#include "opifex/core/io/byte_source.hpp"

#include "builder.hpp"

namespace opifex {

void read_xml_list(const ByteSource& source, ListBuilder& builder);
void read_text_list(const ByteSource& source, ListBuilder& builder);

/// How lines that may be two things are taken, by the file's ending.
enum class SumTie { none, sfv, sums };
/// What kinds of lines it had.
ListKind read_sum_list(const ByteSource& source, SumTie tie, ListBuilder& builder);

}  // namespace opifex
