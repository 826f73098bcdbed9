/// Ways to a simulated reader: straight, or through a pseudo-terminal of this machine.
#pragma once

#include <memory>

#include "opifex/core/dump/reader_host.hpp"
#include "opifex/core/dump/sim_reader.hpp"

namespace opifex::dump {

/// Straight to a simulated reader, in time that passes only while somebody waits. The reader must outlive it.
class SimLink final : public ReaderLink {
 public:
  explicit SimLink(SimReader& reader) : reader_(reader) {}
  void write(ByteView bytes) override;
  std::size_t read(std::span<std::byte> out, unsigned timeout_ms) override;
  std::uint64_t now_ms() const override { return now_; }
  void wait(unsigned ms) override { now_ += ms; }

 private:
  SimReader& reader_;
  std::uint64_t now_ = 0;
};

/// The simulated reader behind a pseudo-terminal of this machine, served by a thread of its own until it is destroyed.
class SimReaderPort {
 public:
  explicit SimReaderPort(SimReaderSetup setup);
  ~SimReaderPort();
  SimReaderPort(const SimReaderPort&) = delete;
  SimReaderPort& operator=(const SimReaderPort&) = delete;
  const std::string& path() const;  ///< "/dev/pts/7"
  /// The save memory as it is now. Not while a command is in work.
  Bytes save() const;

 private:
  struct Served;
  std::unique_ptr<Served> served_;
};

}  // namespace opifex::dump
