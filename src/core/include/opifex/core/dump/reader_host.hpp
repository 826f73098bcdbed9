/// The computer's side of OCR-1: asks a cartridge reader, puts up with a bad cable, and never believes an answer that
/// its checksums do not confirm (shared facts: reader-protocol, section 7).
#pragma once

#include <filesystem>
#include <functional>
#include <memory>
#include <stop_token>
#include <string>
#include <vector>

#include "opifex/core/dump/ocr1.hpp"
#include "opifex/core/formats/rom/rom.hpp"

namespace opifex::dump {

/// A stream of bytes to and from a reader, with its clock.
class ReaderLink {
 public:
  virtual ~ReaderLink() = default;
  virtual void write(ByteView bytes) = 0;
  /// What has come, at most out.size() bytes; 0: nothing within the time. Error (device) if the line is gone.
  virtual std::size_t read(std::span<std::byte> out, unsigned timeout_ms) = 0;
  virtual std::uint64_t now_ms() const = 0;
  virtual void wait(unsigned ms) = 0;
};

/// A serial port or pseudo-terminal: 115200 baud, 8N1, raw. Error (device, "no_port") if it cannot be opened or is
/// none.
std::unique_ptr<ReaderLink> open_port(const std::filesystem::path& path);

/// What the reader says of itself.
struct ReaderFacts {
  std::string model, serial, firmware;
  std::vector<std::string> buses;
  std::uint32_t most_read = 4096;
  bool sums = false, writes_saves = false;
};

struct ReaderState {
  std::string cartridge, bus;  ///< "none", "present", "unsure"
  std::uint64_t insertions = 0;
};

/// An answer that is no data.
struct ReaderReply {
  enum class End { done, failed, silent };
  End end = End::silent;
  unsigned code = 0;  ///< of one that failed (section 6)
  std::string word = {}, text = {};
  std::uint32_t position = 0;
  ocr1::Fields fields = {};
  bool done() const { return end == End::done; }
};
/// Those that something is done about.
inline constexpr unsigned kNoCart = 21, kCartLost = 22, kNoHeader = 23, kContact = 24, kVerifyFailed = 35;

class ReaderHost {
 public:
  /// `nonce` makes the words that tell this session's answers from an older one's.
  ReaderHost(ReaderLink& link, std::stop_token stop, std::uint64_t nonce);

  /// SYNC and HELLO. Error (device, "no_reader") if nobody answers.
  ReaderFacts begin();
  /// Asked again up to four times if the line or the answer was spoilt. Error (device) if the reader stays silent.
  ReaderReply ask(const std::string& body);
  /// The same, but a failure is an Error (device) whose code is the protocol's word.
  ocr1::Fields require(const std::string& body);
  ReaderState state();

  struct Reading {
    Bytes bytes;
    std::vector<bool> have;  ///< all, unless the cartridge was lost
    bool cart_lost = false;
    bool whole() const;
  };
  /// Up to most_read bytes: what is missing is asked for again; a checksum of the reader covers all of it. Error
  /// (device, "reader_gives_up") after six rounds without progress; as require() for other failures.
  Reading read(const std::string& space, std::uint32_t at, std::uint32_t bytes);
  /// CRC-32 of another reading that the device makes by itself; nothing if it cannot. Cart lost: an Error.
  std::optional<std::string> sum(const std::string& space, std::uint32_t at, std::uint32_t bytes);
  /// Nothing if the machine's cartridges have none.
  using Header = rom::BusHeader;
  std::optional<Header> header();
  /// Writes part of the save memory and reads it back; whatever happens, the cartridge's bytes decide.
  struct Written {
    bool right = false;
    bool committed = false;  ///< asked to write: before that nothing of the cartridge can have changed
    std::optional<std::uint32_t> first_wrong;
    std::string trouble;  ///< what the reader said, if it said anything but "ok"
  };
  Written write_save(std::uint32_t at, ByteView bytes);
  /// Ends what is in work and switches off, within two seconds.
  void leave() noexcept;
  /// Called with the bytes that a READ has delivered, as they come; null: nobody.
  void watch(std::function<void(std::uint32_t)> on_bytes) { on_bytes_ = std::move(on_bytes); }
  bool cart_was_removed() const { return removed_; }

 private:
  using OnData = std::function<void(const ocr1::Frame&)>;
  ReaderReply transact(const std::string& body, const OnData& on_data);
  std::optional<ocr1::Frame> frame_within(unsigned ms);
  bool synchronise_once();
  void synchronise();
  void check_stop() const;
  void lower_chunk(std::uint32_t bytes);
  Reading gather(const std::string& verb_head, std::uint32_t at, std::uint32_t bytes);
  [[noreturn]] void fail(const ReaderReply& reply, const std::string& body) const;

  ReaderLink& link_;
  std::stop_token stop_;
  std::uint64_t nonce_;
  ocr1::FrameParser parser_;
  std::function<void(std::uint32_t)> on_bytes_;
  std::uint64_t last_byte_ms_ = 0;
  std::uint32_t most_read_ = 65536;                 ///< at once; less if the reader said too much
  std::uint32_t chunk_bytes_ = ocr1::kMostPayload;  ///< of a data frame, as the reader sends them
  std::uint16_t tag_ = 0;
  bool removed_ = false, leaving_ = false;
};

}  // namespace opifex::dump
