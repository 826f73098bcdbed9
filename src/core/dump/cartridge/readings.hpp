// The same part of a cartridge read several times: what is alike, and what is not.
#pragma once

#include "opifex/core/dump/cartridge.hpp"

namespace opifex::dump {

/// Error (device, "cart_lost") if the cartridge is gone.
Bytes read_once(ReaderHost& host, std::string_view space, std::uint32_t at, std::uint32_t bytes);

/// Every place where one of the readings differs from the first; `at`: where they begin. `ones` keeps the address bits
/// that are 1 at all of them.
void note_differences(const std::vector<Bytes>& readings, std::uint64_t at, rom::BusOrder bus, UnstablePlaces& out,
                      std::uint64_t& ones);
void note_cell(UnstablePlaces& out, std::uint64_t at);
/// Only the reader's sum differed: where, nobody knows.
UnstablePlaces somewhere_at(std::uint64_t at);

/// But for what a dirty contact spoils: otherwise a chip would seem to have no end.
bool nearly_alike(ByteView a, ByteView b);

}  // namespace opifex::dump
