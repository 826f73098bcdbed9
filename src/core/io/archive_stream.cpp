#include "archive_stream.hpp"

#include <algorithm>
#include <cerrno>

#include <fcntl.h>
#include <libdeflate.h>
#include <unistd.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/target.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kWindow = 12 << 20;  // more than the blocks of a job in flight
constexpr unsigned kMostRestarts = 3;        // then a copy is the faster way
constexpr std::uint64_t kSmall = 512 << 10, kSmallTogether = 16 << 20;
constexpr std::size_t kCopy = 1 << 20;
constexpr std::size_t kLook = 2048, kMostLooks = 2048;

[[noreturn]] void not_as_listed(const std::string& file, const StreamMember& m, const std::string& found,
                                const std::string& expected) {
  throw Error({.code = "archive_damaged",
               .cause = Cause::archive,
               .what = fmt::format("{} in the archive is damaged", printable(m.name)),
               .file = file,
               .found = found,
               .expected = expected,
               .hint = "copy or download the archive again"});
}

/// A file that is gone when it is closed, whatever happens.
FileDescriptor nameless_file(const std::filesystem::path& folder) {
  FileDescriptor fd(::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600));
  if (fd >= 0) return fd;
  std::string name = (folder / ".opifex-part-XXXXXX").string();
  FileDescriptor named(::mkostemp(name.data(), O_CLOEXEC));
  if (named < 0) throw_system_error("cannot make a copy of the archive's contents", folder.string(), errno);
  ::unlink(name.c_str());
  return named;
}

void write_at(int fd, std::uint64_t offset, ByteView data) {
  while (!data.empty()) {
    const ssize_t n = ::pwrite(fd, data.data(), data.size(), static_cast<off_t>(offset));
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) throw_system_error("cannot make a copy of the archive's contents", "", n < 0 ? errno : ENOSPC);
    data = data.subspan(static_cast<std::size_t>(n));
    offset += static_cast<std::uint64_t>(n);
  }
}

}  // namespace

/// One member; knows its number, so that it can be asked for as a whole.
class ArchiveStream::Member final : public ByteSource {
 public:
  Member(std::shared_ptr<const ArchiveStream> stream, std::size_t number, std::string name)
      : stream_(std::move(stream)), number_(number), name_(std::move(name)) {}
  std::uint64_t size() const override { return stream_->members_[number_].size_bytes; }
  std::string name() const override { return name_; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (offset > size() || out.size() > size() - offset)
      throw Error({.code = "truncated",
                   .what = "the file ends too early",
                   .file = name_,
                   .offset = offset,
                   .found = fmt::format("{} bytes", size()),
                   .expected = fmt::format("{}", offset + out.size())});
    stream_->read_at(stream_->members_[number_].start + offset, out);
  }
  std::uint64_t next_data(std::uint64_t offset) const override {
    const std::uint64_t start = stream_->members_[number_].start;
    return offset >= size() ? size() : std::min(size(), stream_->data_behind(start + offset, number_) - start);
  }

 private:
  std::shared_ptr<const ArchiveStream> stream_;
  std::size_t number_;
  std::string name_;
};

ArchiveStream::ArchiveStream(std::vector<std::filesystem::path> volumes, std::string kind,
                             std::vector<StreamMember> members, std::filesystem::path spool_folder)
    : volumes_(std::move(volumes)),
      kind_(std::move(kind)),
      members_(std::move(members)),
      spool_folder_(std::move(spool_folder)),
      wanted_(members_.size()),
      spooled_(members_.size()) {}

ArchiveStream::~ArchiveStream() {}

std::uint64_t ArchiveStream::size() const {
  return members_.empty() ? 0 : members_.back().start + members_.back().size_bytes;
}

std::string ArchiveStream::name() const { return volumes_.front().string(); }

void ArchiveStream::read_at(std::uint64_t offset, std::span<std::byte> out) const {
  const std::lock_guard lock(mutex_);
  // Everybody who looks what an image is reads the same few places: going back for them would cost a pass each.
  const bool look = out.size() <= kLook;
  const auto key = std::pair(offset, out.size());
  if (const auto known = look ? looks_.find(key) : looks_.end(); known != looks_.end()) {
    std::copy(known->second.begin(), known->second.end(), out.begin());
    return;
  }
  const std::span<std::byte> whole = out;
  while (!out.empty()) {  // in pieces that fit into what is kept
    const std::size_t n = std::min(out.size(), kCopy);
    read_piece(offset, out.first(n));
    out = out.subspan(n);
    offset += n;
  }
  if (look && looks_.size() < kMostLooks) looks_[key] = Bytes(whole.begin(), whole.end());
}

void ArchiveStream::read_piece(std::uint64_t offset, std::span<std::byte> out) const {
  const auto after = std::upper_bound(members_.begin(), members_.end(), offset,
                                      [](std::uint64_t at, const StreamMember& m) { return at < m.start; });
  // Empty members stand at the same place as the one behind them: the last of them holds the byte.
  const auto number = static_cast<std::size_t>(after - members_.begin()) - 1;
  wanted_[number] = true;
  const StreamMember& m = members_[number];
  if (m.size_bytes <= kSmall && !small_loaded_) load_small();
  if (const auto small = small_.find(number); small != small_.end()) {
    std::copy_n(small->second.begin() + static_cast<std::ptrdiff_t>(offset - m.start), out.size(), out.begin());
    return;
  }
  if (!spooled_[number] && reader_ && offset < kept_from_ && restarts_ >= kMostRestarts) spool();
  if (spooled_[number]) {
    for (std::size_t done = 0; done < out.size();) {
      const ssize_t n = ::pread(spool_, out.data() + done, out.size() - done, static_cast<off_t>(offset + done));
      if (n < 0 && errno == EINTR) continue;
      if (n <= 0) throw_system_error("the copy of the archive's contents cannot be read", name(), n < 0 ? errno : EIO);
      done += static_cast<std::size_t>(n);
    }
    return;
  }
  if (!reader_ || offset < kept_from_) restart();
  if (offset > position_) move_to(offset);
  while (position_ < offset + out.size()) take_block();
  copy_kept(offset, out);
}

std::uint64_t ArchiveStream::data_behind(std::uint64_t offset, std::size_t number) const {
  const std::lock_guard lock(mutex_);
  if (spooled_[number]) {
    const off_t at = ::lseek(spool_, static_cast<off_t>(offset), SEEK_DATA);
    if (at < 0) return errno == ENXIO ? size() : offset;
    return static_cast<std::uint64_t>(at);
  }
  return offset >= position_ && inside_ && member_ == number ? std::max(offset, hole_end()) : offset;
}

void ArchiveStream::restart() const {
  if (reader_) ++restarts_;
  reader_.reset();
  kept_.clear();
  kept_from_ = kept_bytes_ = position_ = 0;
  next_entry_ = member_ = 0;
  inside_ = false;
  pending_.reset();
  reader_ = std::make_unique<ArchiveReader>(volumes_, kind_);
}

/// Members that end before `offset` are passed over without keeping their bytes.
void ArchiveStream::move_to(std::uint64_t offset) const {
  while (position_ < offset) {
    const StreamMember* m = inside_ ? &current() : nullptr;
    if (m && m->start + m->size_bytes <= offset) {
      inside_ = false;  // next() of the library skips what is left
      pending_.reset();
      position_ = m->start + m->size_bytes;
      ++member_;
    } else if (!m && member_ < members_.size() && members_[member_].start + members_[member_].size_bytes <= offset &&
               members_[member_].size_bytes > 0) {
      position_ = members_[member_].start + members_[member_].size_bytes;
      ++member_;
    } else if (m && hole_end() > position_) {
      position_ = std::min(offset, hole_end());
      if (position_ == m->start + m->size_bytes) finish_member(pending_->last);
    } else {
      take_block();
      continue;
    }
    kept_.clear();
    kept_bytes_ = 0;
    kept_from_ = position_;
  }
}

/// Opens the member of the next byte.
bool ArchiveStream::begin_member_at(std::uint64_t offset) const {
  while (member_ < members_.size() && members_[member_].start + members_[member_].size_bytes <= offset) ++member_;
  if (member_ == members_.size()) return false;
  while (next_entry_ <= current().entry) {
    if (!reader_->next()) not_as_listed(name(), current(), "nothing", "it, as the list says");
    ++next_entry_;
  }
  inside_ = true;
  crc_ = 0;
  return true;
}

/// What comes next of the member: bytes, and the hole in front of them.
void ArchiveStream::fetch(const StreamMember& m, std::uint64_t end) const {
  ByteView block;
  std::uint64_t at = 0;
  if (reader_->read(block, at)) {
    const std::uint64_t place = m.start + at;
    if (place < position_ || block.size() > end - std::min(end, place))
      not_as_listed(name(), m, "more bytes than it should have", fmt::format("{}", m.size_bytes));
    pending_ = Pending{Bytes(block.begin(), block.end()), place, false};
    return;
  }
  // A hole at the end is not delivered.
  if (position_ < end && !kind_.starts_with("tar"))
    not_as_listed(name(), m, fmt::format("{} bytes", position_ - m.start), fmt::format("{}", m.size_bytes));
  pending_ = Pending{{}, end, true};
}

/// Bytes of the member, a hole of zeros in pieces: what was asked for must not leave the window before it is copied.
void ArchiveStream::take_block() const {
  if (!inside_ && !begin_member_at(position_)) not_as_listed(name(), members_.back(), "its end", "more bytes");
  const StreamMember& m = current();
  const std::uint64_t end = m.start + m.size_bytes;
  if (!pending_) fetch(m, end);
  const bool last = pending_->last;
  if (position_ < pending_->place) {
    keep(Bytes(static_cast<std::size_t>(std::min<std::uint64_t>(kCopy, pending_->place - position_))));
  } else {
    Bytes bytes = std::move(pending_->bytes);
    pending_.reset();
    keep(std::move(bytes));
  }
  if (position_ == end) finish_member(last);
}

/// The checksum is told with the end of the member.
void ArchiveStream::finish_member(bool ended) const {
  pending_.reset();
  ByteView rest;
  std::uint64_t at = 0;
  if (!ended && reader_->read(rest, at) && !rest.empty())
    not_as_listed(name(), current(), "more bytes than it should have", fmt::format("{}", current().size_bytes));
  end_member();
}

std::uint64_t ArchiveStream::hole_end() const {
  return inside_ && pending_ && !current().crc ? std::max(position_, pending_->place) : position_;
}

void ArchiveStream::end_member() const {
  inside_ = false;
  const StreamMember& m = current();
  ++member_;
  if (m.crc && *m.crc != crc_)
    not_as_listed(name(), m, fmt::format("CRC-32 {:08X}", crc_), fmt::format("{:08X}", *m.crc));
}

void ArchiveStream::keep(Bytes bytes) const {
  if (bytes.empty()) return;
  crc_ = libdeflate_crc32(crc_, bytes.data(), bytes.size());
  kept_bytes_ += bytes.size();
  position_ += bytes.size();
  kept_.push_back(std::move(bytes));
  while (!kept_.empty() && kept_bytes_ - kept_.front().size() >= kWindow) {
    kept_bytes_ -= kept_.front().size();
    kept_from_ += kept_.front().size();
    kept_.pop_front();
  }
}

void ArchiveStream::copy_kept(std::uint64_t offset, std::span<std::byte> out) const {
  std::uint64_t at = kept_from_;
  for (const Bytes& chunk : kept_) {
    const std::uint64_t end = at + chunk.size();
    if (at <= offset && end > offset && !out.empty()) {
      const auto inside = static_cast<std::size_t>(offset - at);
      const std::size_t n = std::min(out.size(), chunk.size() - inside);
      std::copy_n(chunk.begin() + static_cast<std::ptrdiff_t>(inside), n, out.begin());
      out = out.subspan(n);
      offset += n;
    }
    at = end;
  }
  if (!out.empty()) not_as_listed(name(), members_.back(), "less than was read", "bytes that are kept");
}

/// Sheets and texts may lie behind the images they describe: one pass fetches all of them.
void ArchiveStream::load_small() const {
  small_loaded_ = true;
  ArchiveReader reader(volumes_, kind_);
  std::size_t entry = 0;
  std::uint64_t together = 0;
  for (std::size_t i = 0; i < members_.size(); ++i) {
    const StreamMember& m = members_[i];
    if (m.size_bytes > kSmall || together + m.size_bytes > kSmallTogether) continue;
    for (; entry <= m.entry; ++entry)
      if (!reader.next()) return;
    together += m.size_bytes;
    Bytes whole;
    try {
      ByteView block;
      std::uint64_t at = 0;
      while (reader.read(block, at)) {
        if (at < whole.size() || at + block.size() > m.size_bytes) break;
        whole.resize(static_cast<std::size_t>(at));
        whole.insert(whole.end(), block.begin(), block.end());
      }
    } catch (const Error& e) {
      if (e.details.fault != Fault::refused) throw;
      continue;  // told when it is asked for
    }
    const bool whole_crc = !m.crc || *m.crc == libdeflate_crc32(0, whole.data(), whole.size());
    if (whole.size() == m.size_bytes && whole_crc) small_[i] = std::move(whole);
  }
}

/// Every member that was asked for so far goes to one file, each at its place.
void ArchiveStream::spool() const {
  const std::filesystem::path folder = spool_folder_.empty() ? std::filesystem::temp_directory_path() : spool_folder_;
  std::vector<PlannedFile> planned;
  // What is not packed has no more data than its archive, the rest of it are holes.
  std::uint64_t most = kind_ == "tar" ? 0 : UINT64_MAX;
  if (kind_ == "tar")
    for (const auto& volume : volumes_) most += open_file(volume)->size();
  for (std::size_t i = 0; i < members_.size(); ++i)
    if (wanted_[i] && !spooled_[i]) planned.push_back({folder / "copy", std::min(members_[i].size_bytes, most)});
  TargetFacts facts = target_facts(folder);
  facts.largest_file_bytes = UINT64_MAX;  // no file stays
  check_fits(planned, facts);
  if (spool_ < 0) spool_ = nameless_file(folder);
  if (::ftruncate(spool_, static_cast<off_t>(size())) != 0)  // what is not written is a hole
    throw_system_error("cannot make a copy of the archive's contents", folder.string(), errno);
  restart();
  for (std::size_t i = 0; i < members_.size(); ++i) {
    if (!wanted_[i] || spooled_[i]) continue;
    const StreamMember& m = members_[i];
    Bytes buffer;
    for (std::uint64_t at = m.start; at < m.start + m.size_bytes; at += buffer.size()) {
      buffer.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kCopy, m.start + m.size_bytes - at)));
      if (at > position_) move_to(at);
      if (at == position_ && hole_end() >= at + buffer.size()) {
        move_to(at + buffer.size());
        continue;
      }
      while (position_ < at + buffer.size()) take_block();
      copy_kept(at, buffer);
      if (!all_zero(buffer)) write_at(spool_, at, buffer);
    }
    spooled_[i] = true;
  }
}

SourcePtr ArchiveStream::open(std::size_t n, const std::string& name) const {
  return std::make_shared<Member>(shared_from_this(), n, name);
}

}  // namespace opifex
