// Patches: what they say, what they make of a file, and whether one that is made gives the file again.
#include <cstdlib>

#include "opifex/core/convert/patch.hpp"

#include "fuzz.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const Bytes bytes = fuzz::bytes_of(data, size);
  fuzz::tolerate([&] { read_patch(bytes, "fuzz"); });
  // The first half as a patch for the second, and the one as what became of the other.
  const ByteView front = ByteView(bytes).first(size / 2), back = ByteView(bytes).subspan(size / 2);
  fuzz::tolerate([&] { apply_patch(front, back, "fuzz"); });
  for (const PatchKind kind : {PatchKind::ips, PatchKind::ups, PatchKind::bps}) {
    const Bytes patch = make_patch(kind, front, back);
    const Patched made = apply_patch(patch, front, "fuzz");
    if (made.bytes != Bytes(back.begin(), back.end())) std::abort();
  }
  return 0;
}
