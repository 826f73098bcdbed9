// Both sides of a cartridge reader's line: frames for the host, lines for the device, each hostile.
#include <cstdlib>

#include "opifex/core/dump/sim_port.hpp"

#include "fuzz.hpp"

using namespace opifex;
using namespace opifex::dump;

namespace {

/// Says what it was given, whatever it is asked.
class Babbler final : public ReaderLink {
 public:
  explicit Babbler(Bytes bytes) : bytes_(std::move(bytes)) {}
  void write(ByteView) override {}
  std::size_t read(std::span<std::byte> out, unsigned timeout_ms) override {
    const std::size_t n = std::min({out.size(), bytes_.size() - at_, std::size_t{64}});
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(at_), n, out.begin());
    at_ += n;
    now_ += n == 0 ? timeout_ms : 1;
    return n;
  }
  std::uint64_t now_ms() const override { return now_; }
  void wait(unsigned ms) override { now_ += ms; }

 private:
  Bytes bytes_;
  std::size_t at_ = 0;
  std::uint64_t now_ = 0;
};

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const Bytes bytes = fuzz::bytes_of(data, size);
  ocr1::FrameParser frames;
  frames.add(bytes);
  while (const auto frame = frames.next())
    if (frame->payload.size() > ocr1::kMostPayload) std::abort();
  fuzz::tolerate([&] {
    Babbler link(bytes);
    ReaderHost host(link, {}, 1);
    host.begin();
    host.header();
    host.read("rom", 0, 512);
  });
  SimReader reader({.rom = Bytes(4096), .save = Bytes(256)});
  reader.receive(bytes, 0);
  if (reader.send(1'000'000, 1 << 22).size() > (std::size_t{1} << 22)) std::abort();
  return 0;
}
