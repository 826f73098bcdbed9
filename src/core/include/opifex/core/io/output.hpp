/// Output that appears whole or not at all.
#pragma once

#include <filesystem>
#include <memory>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex {

/// In-order output.
class ByteSink {
 public:
  virtual ~ByteSink() = default;
  virtual void write(ByteView data) = 0;
};

enum class Existing { keep, replace };

/// One file under a temporary name beside its target (`NAME.opifex-part`). Long runs of zeros become holes where the
/// file system has them. Destroyed before OutputSet::commit(), it leaves no trace.
class OutputFile final : public ByteSink {
 public:
  explicit OutputFile(std::filesystem::path target);
  /// Takes over a finished file of the same folder: it is put in place under its new name. If it is not, it stays as it
  /// was.
  OutputFile(std::filesystem::path target, std::filesystem::path finished);
  OutputFile(const OutputFile&) = delete;
  OutputFile& operator=(const OutputFile&) = delete;
  ~OutputFile() override;

  void write(ByteView data) override;
  /// Replaces bytes that are written already: a header that is known last.
  void rewrite(std::uint64_t offset, ByteView data);
  /// Bytes written so far.
  void read_back(std::uint64_t offset, std::span<std::byte> out) const;
  const std::filesystem::path& target() const { return target_; }
  std::uint64_t size() const { return size_; }

 private:
  friend class OutputSet;
  void write_data(ByteView data);
  void start_writing();
  void sync();
  void put_in_place(Existing existing);
  void take_back();

  std::filesystem::path target_, temporary_;
  int fd_ = -1;
  std::uint64_t size_ = 0;     // bytes written or skipped so far
  std::uint64_t started_ = 0;  // bytes whose writing to the disk has been started
  bool placed_ = false;
  bool adopted_ = false;  // was there before us: never removed
};

/// The files of one job. All are synced, then renamed in the order they were added (data first, index last); if one
/// cannot be placed, those placed before it are taken away again unless they replaced something.
class OutputSet {
 public:
  explicit OutputSet(Existing existing) : existing_(existing) {}
  ~OutputSet();
  OutputSet(const OutputSet&) = delete;
  OutputSet& operator=(const OutputSet&) = delete;

  /// Creates missing folders. Error (needs_word) if the target exists and may not be replaced.
  OutputFile& add(const std::filesystem::path& target);
  /// A file that is written already: only its name changes. It must lie on the same drive.
  OutputFile& adopt(const std::filesystem::path& target, const std::filesystem::path& finished);
  void commit();

 private:
  Existing existing_;
  std::vector<std::unique_ptr<OutputFile>> files_;
  std::vector<std::filesystem::path> made_folders_;
  bool committed_ = false;
};

/// Error (needs_word, "exists") if one of `targets` exists and may not be replaced, or if it is one of `inputs`: an
/// input is never written, not even with `replace`.
void refuse_existing(const std::vector<std::filesystem::path>& targets,
                     const std::vector<std::filesystem::path>& inputs, Existing existing);

/// A small file in one step.
void write_whole_file(const std::filesystem::path& target, std::string_view text, Existing existing);

}  // namespace opifex
