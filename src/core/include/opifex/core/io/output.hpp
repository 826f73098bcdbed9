/// Output that appears whole or not at all.
#pragma once

#include <filesystem>
#include <functional>
#include <memory>
#include <vector>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/io/file_descriptor.hpp"
#include "opifex/core/io/input_files.hpp"

namespace opifex {

/// In-order output.
class ByteSink {
 public:
  virtual ~ByteSink() = default;
  virtual void write(ByteView data) = 0;
};

enum class Existing { keep, replace };

/// Output with a beginning that is known last, and whose bytes can be seen again.
class Output : public ByteSink {
 public:
  /// So many zeros: a hole where the file system has them.
  virtual void skip(std::uint64_t bytes) = 0;
  /// Replaces bytes that are written already: a header that is known last.
  virtual void rewrite(std::uint64_t offset, ByteView data) = 0;
  /// Bytes written so far.
  virtual void read_back(std::uint64_t offset, std::span<std::byte> out) const = 0;
  virtual std::uint64_t size() const = 0;
};

/// One file under a temporary name beside its target (`NAME.opifex-part`). Long runs of zeros become holes where the
/// file system has them. Destroyed before OutputSet::commit(), it leaves no trace.
class OutputFile final : public Output {
 public:
  explicit OutputFile(std::filesystem::path target);
  /// Takes over a finished file of the same folder: it is put in place under its new name. If it is not, it stays as it
  /// was.
  OutputFile(std::filesystem::path target, std::filesystem::path finished);
  OutputFile(const OutputFile&) = delete;
  OutputFile& operator=(const OutputFile&) = delete;
  ~OutputFile() override;

  void write(ByteView data) override;
  void skip(std::uint64_t bytes) override { size_ += bytes; }
  void rewrite(std::uint64_t offset, ByteView data) override;
  void read_back(std::uint64_t offset, std::span<std::byte> out) const override;
  std::uint64_t size() const override { return size_; }
  const std::filesystem::path& target() const { return target_; }
  /// Where its bytes are until it has its name.
  const std::filesystem::path& temporary() const { return temporary_; }
  /// Another name in the same folder, before it is put in place.
  void rename(const std::filesystem::path& target) { target_ = target; }

 private:
  friend class OutputSet;
  void write_data(ByteView data);
  void start_writing();
  void sync();
  void require_own() const;
  void put_in_place(Existing existing);
  void placed();

  std::filesystem::path target_, temporary_;
  FileDescriptor fd_;
  std::uint64_t size_ = 0;     // bytes written or skipped so far
  std::uint64_t started_ = 0;  // bytes whose writing to the disk has been started
  bool placed_ = false;
  bool adopted_ = false;  // was there before us: never removed
};

enum class Placed {
  together,  ///< a set: all of its files get their names or none, even if the machine stops in between (io/journal.hpp)
  singly     ///< each file is of use alone
};

/// The files of one job. All are synced, then renamed in the order they were added: data first, index last.
class OutputSet {
 public:
  /// None of `inputs` is ever written, not even with Existing::replace.
  explicit OutputSet(Existing existing, InputFiles inputs = {}, Placed how = Placed::together)
      : existing_(existing), inputs_(std::move(inputs)), how_(how) {}
  ~OutputSet();
  OutputSet(const OutputSet&) = delete;
  OutputSet& operator=(const OutputSet&) = delete;

  /// Creates missing folders. Error (needs_word) if the target exists and may not be replaced.
  OutputFile& add(const std::filesystem::path& target);
  /// A file that is written already: only its name changes. It must lie on the same drive.
  OutputFile& adopt(const std::filesystem::path& target, const std::filesystem::path& finished);
  /// The bytes are where a reader finds them, still under temporary names.
  void finish_writing();
  void commit();
  const std::vector<std::unique_ptr<OutputFile>>& files() const { return files_; }

 private:
  void place_all();

  Existing existing_;
  InputFiles inputs_;
  Placed how_;
  std::vector<std::unique_ptr<OutputFile>> files_;
  std::vector<std::filesystem::path> made_folders_;
  bool committed_ = false;
};

/// One stream cut into files of at most `part_bytes`, each made when the one before is full. Plain cuts.
class PartedOutput final : public Output {
 public:
  using Naming = std::function<std::filesystem::path(std::size_t part)>;
  PartedOutput(OutputSet& set, Naming naming, std::uint64_t part_bytes)
      : set_(set), naming_(std::move(naming)), part_bytes_(part_bytes) {}
  void write(ByteView data) override;
  void skip(std::uint64_t bytes) override;
  void rewrite(std::uint64_t offset, ByteView data) override;
  void read_back(std::uint64_t offset, std::span<std::byte> out) const override;
  std::uint64_t size() const override { return size_; }
  const std::vector<OutputFile*>& parts() const { return parts_; }

 private:
  OutputFile& open_part();

  OutputSet& set_;
  Naming naming_;
  std::uint64_t part_bytes_, size_ = 0;
  std::vector<OutputFile*> parts_;  // of the set
};

/// Error (needs_word, "exists") if one of `targets` exists and may not be replaced, "output_is_input" if it is one of
/// `inputs`, "not_a_file" if it is a folder, a pipe or a device: neither is ever replaced.
void refuse_existing(const std::vector<std::filesystem::path>& targets, const InputFiles& inputs, Existing existing);

/// A small file in one step.
void write_whole_file(const std::filesystem::path& target, std::string_view text, Existing existing,
                      const InputFiles& inputs = {});

}  // namespace opifex
