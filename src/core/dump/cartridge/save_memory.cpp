// The save memory alone: read for sure, written back, and what it holds afterwards.
#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/cartridge.hpp"

namespace opifex::dump {
namespace {

constexpr std::uint32_t kPiece = 8192;

TwiceRead read_all(ReaderHost& host, const ReaderFacts& reader, std::uint64_t size) {
  TwiceRead all{{}, {}};
  while (all.bytes.size() < size) {
    const auto at = static_cast<std::uint32_t>(all.bytes.size());
    const auto n =
        static_cast<std::uint32_t>(std::min<std::uint64_t>({kPiece, reader.most_read, size - all.bytes.size()}));
    const TwiceRead piece = read_twice(host, reader, ocr1::kSaveSpace, at, n, rom::BusOrder::bytes);
    all.bytes.insert(all.bytes.end(), piece.bytes.begin(), piece.bytes.end());
    all.unstable.bytes += piece.unstable.bytes;
  }
  return all;
}

}  // namespace

Bytes CartridgeDump::read_save_for_sure() {
  TwiceRead all = read_all(host_, plan_.reader, plan_.save_bytes);
  if (all.unstable.bytes > 0)
    throw Error({.fault = Fault::device,
                 .code = "save_unstable",
                 .what = "the save comes out in several ways: the contacts flicker",
                 .found = plural(all.unstable.bytes, "byte"),
                 .hint = "nothing was written; clean the contacts with isopropyl alcohol, let them dry and try again"});
  if (const QuietLines dead = dead_lines(host_, plan_, all.bytes); dead.any())
    throw Error({.fault = Fault::device,
                 .code = "line_stuck",
                 .what = "lines of the cartridge have no contact: its save cannot be read through them",
                 .found = dead.text(),
                 .hint = "nothing was written; clean the contacts with isopropyl alcohol, let them dry and try again"});
  return std::move(all.bytes);
}

CartridgeDump::SaveWritten CartridgeDump::write_save(ByteView bytes) {
  SaveWritten out;
  constexpr int kTries = 4;
  try {
    for (std::uint32_t at = 0; at < bytes.size() && out.trouble.empty(); at += kPiece) {
      const ByteView piece = bytes.subspan(at, std::min<std::size_t>(kPiece, bytes.size() - at));
      ReaderHost::Written written;
      // Until it is asked to commit nothing of the cartridge has changed: only that is tried again.
      for (int i = 0; i < kTries; ++i) {
        written = host_.write_save(at, piece);
        if (written.committed) break;
      }
      if (!written.right) out.trouble = written.trouble.empty() ? "verify-failed" : written.trouble;
    }
  } catch (const Error& e) {
    out.trouble = e.details.code.empty() ? e.details.what : e.details.code;
  }
  try {
    const TwiceRead now = read_all(host_, plan_.reader, bytes.size());
    if (now.unstable.bytes == 0) out.now = now.bytes;
  } catch (const Error&) {  // it is said that it cannot be read
  }
  out.right = out.now && std::equal(out.now->begin(), out.now->end(), bytes.begin(), bytes.end());
  return out;
}

}  // namespace opifex::dump
