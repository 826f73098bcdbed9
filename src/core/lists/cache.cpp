#include "cache.hpp"

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <future>

#include <fcntl.h>
#include <libdeflate.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include "opifex/core/io/file_descriptor.hpp"
#include "opifex/core/lists/read_list.hpp"

namespace opifex {

namespace fs = std::filesystem;

namespace {

constexpr std::uint64_t kMagic = 0x0263'616c'7866'706f;  // also tells the order of bytes, and the version
constexpr std::uint64_t kWorthIt = 64 << 10;             // a smaller list is read as quickly as its cache

/// What a cache is of. Two checksums of different kinds: together with the size no edit keeps all of them by chance.
struct Key {
  std::uint64_t size = 0;
  std::array<std::uint32_t, 2> crc = {}, adler = {};  // of either half
  std::uint64_t name = 0;
  bool operator==(const Key&) const = default;
};

/// At the start of the file; then the arrays, in the order of their counts, each from a multiple of 8.
struct Head {
  std::uint64_t magic = kMagic;
  Key key;
  std::uint64_t bytes = 0;  // of the whole file
  std::uint32_t crc = 0;    // of everything, with nothing in its own place
  std::uint8_t kind = 0, sizes_everywhere = 0;
  std::uint16_t algorithms = 0;
  std::uint64_t sets = 0, entries = 0, sha256s = 0, texts = 0;
  std::array<std::uint64_t, 4> by_hash = {};
  ListTotals totals = {};
  std::uint64_t by_name = 0, facts = 0;  // facts: header and problems as texts with their lengths
};
static_assert(std::is_trivially_copyable_v<Head>);

/// The name of a checksum list's set is that of the file.
std::uint64_t name_hash(const std::string& name) {
  std::uint64_t hash = 0;
  for (const char c : fs::path(name).filename().string())
    hash = (hash ^ static_cast<unsigned char>(c)) * 0x100000001b3 + 1;
  return hash;
}

Key key_of(const ByteSource& source, const std::string& name) {
  Key key{.size = source.size(), .name = name_hash(name)};
  const auto sum = [&](std::size_t half, std::uint64_t at, std::uint64_t end) {
    Bytes piece(256 << 10);  // stays in the processor's cache for both sums
    std::uint32_t crc = 0, adler = 1;
    while (at < end) {
      const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(piece.size(), end - at));
      source.read_at(at, std::span(piece).first(n));
      crc = libdeflate_crc32(crc, piece.data(), n);
      adler = libdeflate_adler32(adler, piece.data(), n);
      at += n;
    }
    key.crc[half] = crc;
    key.adler[half] = adler;
  };
  auto second = std::async(std::launch::async, [&] { sum(1, key.size / 2, key.size); });
  sum(0, 0, key.size / 2);
  second.get();
  return key;
}

/// By what is known before the list is read: its content is hashed while the cache is verified.
fs::path place_of(std::uint64_t size, const std::string& name, const fs::path& folder) {
  return folder / fmt::format("{:012x}-{:016x}.list", size, name_hash(name));
}

class Mapping {
 public:
  explicit Mapping(const fs::path& path) : fd_(::open(path.c_str(), O_RDONLY | O_CLOEXEC)) {
    struct stat facts {};
    if (fd_ < 0 || ::fstat(fd_, &facts) != 0 || facts.st_size <= 0) return;
    const auto size = static_cast<std::size_t>(facts.st_size);
    void* at = ::mmap(nullptr, size, PROT_READ, MAP_PRIVATE, fd_, 0);
    if (at != MAP_FAILED) bytes_ = {static_cast<const std::byte*>(at), size};
  }
  Mapping(const Mapping&) = delete;
  Mapping& operator=(const Mapping&) = delete;
  ~Mapping() {
    if (!bytes_.empty()) ::munmap(const_cast<std::byte*>(bytes_.data()), bytes_.size());
  }
  ByteView bytes() const { return bytes_; }

 private:
  FileDescriptor fd_;
  ByteView bytes_;
};

/// Takes arrays out of the mapping one after the other; false once something does not fit.
class Cutter {
 public:
  explicit Cutter(ByteView bytes) : rest_(bytes) {}
  template <typename T>
  bool take(std::uint64_t count, std::span<const T>& out) {
    const auto size = checked_mul<std::uint64_t>(count, sizeof(T));
    if (!size || round_up<std::uint64_t>(*size, 8) > rest_.size()) return false;
    out = {reinterpret_cast<const T*>(rest_.data()), static_cast<std::size_t>(count)};
    rest_ = rest_.subspan(static_cast<std::size_t>(round_up<std::uint64_t>(*size, 8)));
    return true;
  }
  bool is_done() const { return rest_.empty(); }

 private:
  ByteView rest_;
};

class FactReader {
 public:
  explicit FactReader(std::string_view bytes) : rest_(bytes) {}
  std::optional<std::uint64_t> number() {
    if (rest_.size() < 8) return std::nullopt;
    std::uint64_t n = 0;
    std::memcpy(&n, rest_.data(), 8);
    rest_.remove_prefix(8);
    return n;
  }
  std::optional<std::string> text() {
    const auto size = number();
    if (!size || *size > rest_.size()) return std::nullopt;
    std::string out(rest_.substr(0, static_cast<std::size_t>(*size)));
    rest_.remove_prefix(static_cast<std::size_t>(*size));
    return out;
  }

 private:
  std::string_view rest_;
};

void put(std::string& out, std::uint64_t n) { out.append(reinterpret_cast<const char*>(&n), 8); }
void put(std::string& out, std::string_view text) {
  put(out, text.size());
  out += text;
}

std::string facts_of(const KnownList& list) {
  std::string out;
  put(out, list.header.size());
  for (const auto& [key, value] : list.header) {
    put(out, key);
    put(out, value);
  }
  put(out, list.problems.size());
  for (const ListProblem& p : list.problems) {
    put(out, p.code);
    put(out, p.line);
    put(out, p.message);
  }
  put(out, list.more_problems);
  return out;
}

bool take_facts(std::string_view bytes, KnownList& list) {
  FactReader facts(bytes);
  const auto keys = facts.number();
  for (std::uint64_t i = 0; keys && i < *keys; ++i) {
    auto key = facts.text(), value = facts.text();
    if (!key || !value) return false;
    list.header.emplace_back(std::move(*key), std::move(*value));
  }
  const auto problems = facts.number();
  for (std::uint64_t i = 0; problems && i < *problems; ++i) {
    auto code = facts.text();
    const auto line = facts.number();
    auto message = facts.text();
    if (!code || !line || !message) return false;
    list.problems.push_back({std::move(*code), static_cast<std::uint32_t>(*line), std::move(*message)});
  }
  const auto more = facts.number();
  list.more_problems = more.value_or(0);
  return more.has_value();
}

/// No number leads outside, whoever wrote the file.
bool is_sound(const KnownList& list) {
  const auto inside = [&](ListText t) { return t.at <= list.texts.size() && t.size <= list.texts.size() - t.at; };
  for (const ListedSet& s : list.sets) {
    if (s.first > list.entries.size() || s.entries > list.entries.size() - s.first) return false;
    for (const ListText t : s.texts)
      if (!inside(t)) return false;
  }
  for (const ListedEntry& e : list.entries) {
    if (e.set >= list.sets.size() || !inside(e.name) || !inside(e.serial) || !inside(e.merge)) return false;
    if ((e.hashes & bit(ListHash::sha256)) != 0 && e.sha256 >= list.sha256s.size()) return false;
    if (e.kind > ListedKind::disk || e.status > ListedStatus::no_dump || e.hashes >= 1U << kListHashes.size())
      return false;
  }
  for (const auto& index : list.by_hash)
    for (const std::uint32_t i : index)
      if (i >= list.entries.size()) return false;
  for (const NameKey& k : list.by_name)
    if (k.entry >= list.entries.size()) return false;
  return true;
}

std::uint32_t head_crc(Head head) {
  head.crc = 0;
  return libdeflate_crc32(0, &head, sizeof head);
}

/// A cache that is sound in itself; of which list it is its key tells.
struct Loaded {
  Key key;
  KnownListPtr list;  // null: there is none, or it is of another version, or damaged
};

Loaded load(const fs::path& path, const std::string& name) {
  const auto mapping = std::make_shared<const Mapping>(path);
  const ByteView bytes = mapping->bytes();
  Head head;
  if (bytes.size() < sizeof head) return {};
  std::memcpy(&head, bytes.data(), sizeof head);
  const ByteView body = bytes.subspan(sizeof head);
  if (head.magic != kMagic || head.bytes != bytes.size() ||
      head.crc != libdeflate_crc32(head_crc(head), body.data(), body.size()) ||
      head.kind > static_cast<int>(ListKind::mixed))
    return {};
  const auto list = std::make_shared<KnownList>();
  Cutter cutter(body);
  std::span<const char> texts, facts;
  bool good = cutter.take(head.sets, list->sets) && cutter.take(head.entries, list->entries) &&
              cutter.take(head.sha256s, list->sha256s) && cutter.take(head.texts, texts);
  for (std::size_t i = 0; good && i < 4; ++i) good = cutter.take(head.by_hash[i], list->by_hash[i]);
  good = good && cutter.take(head.by_name, list->by_name) && cutter.take(head.facts, facts) && cutter.is_done();
  if (!good) return {};
  list->file = name;
  list->kind = static_cast<ListKind>(head.kind);
  list->sizes_everywhere = head.sizes_everywhere != 0;
  list->algorithms = head.algorithms;
  list->texts = {texts.data(), texts.size()};
  list->totals = head.totals;
  list->owner = mapping;
  if (!take_facts({facts.data(), facts.size()}, *list) || !is_sound(*list)) return {};
  return {head.key, list};
}

template <typename T>
ByteView bytes_of(std::span<const T> array) {
  return std::as_bytes(array);
}

/// Under a name of its own until it is whole. Nothing waits for the drive: what a crash leaves in pieces has a wrong
/// checksum.
class CacheFile {
 public:
  explicit CacheFile(fs::path path) : path_(std::move(path)), temporary_(path_.string() + ".XXXXXX") {
    std::error_code ignored;
    fs::create_directories(path_.parent_path(), ignored);
    fd_ = FileDescriptor(::mkostemp(temporary_.data(), O_CLOEXEC));
    good_ = fd_ >= 0;
  }
  CacheFile(const CacheFile&) = delete;
  CacheFile& operator=(const CacheFile&) = delete;
  ~CacheFile() {
    if (fd_ >= 0 && !placed_) ::unlink(temporary_.c_str());
  }

  void write(ByteView bytes) {
    while (good_ && !bytes.empty()) {
      const ssize_t n = ::write(fd_, bytes.data(), bytes.size());
      good_ = n > 0 || (n < 0 && errno == EINTR);
      if (n > 0) bytes = bytes.subspan(static_cast<std::size_t>(n));
    }
  }
  void put_in_place() { placed_ = good_ && ::rename(temporary_.c_str(), path_.c_str()) == 0; }

 private:
  fs::path path_;
  std::string temporary_;
  FileDescriptor fd_;
  bool good_ = false, placed_ = false;
};

/// That there is no cache is nobody's failure: a full drive, a folder that may not be written, another process at work.
void store(const KnownList& list, const Key& key, const fs::path& path) {
  const std::string facts = facts_of(list);
  Head head{.key = key, .kind = static_cast<std::uint8_t>(list.kind), .sizes_everywhere = list.sizes_everywhere};
  head.algorithms = static_cast<std::uint16_t>(list.algorithms);
  head.totals = list.totals;
  head.sets = list.sets.size(), head.entries = list.entries.size(), head.sha256s = list.sha256s.size();
  head.texts = list.texts.size(), head.by_name = list.by_name.size(), head.facts = facts.size();
  std::vector<ByteView> arrays{bytes_of(list.sets), bytes_of(list.entries), bytes_of(list.sha256s),
                               as_view(list.texts)};
  for (std::size_t i = 0; i < 4; ++i) {
    head.by_hash[i] = list.by_hash[i].size();
    arrays.push_back(bytes_of(list.by_hash[i]));
  }
  arrays.push_back(bytes_of(list.by_name));
  arrays.push_back(as_view(facts));
  head.bytes = sizeof head;
  for (const ByteView array : arrays) head.bytes += round_up(array.size(), 8);
  head.crc = head_crc(head);
  const Bytes zeros(8);
  const auto gap = [&](ByteView array) { return ByteView(zeros).first(round_up(array.size(), 8) - array.size()); };
  for (const ByteView array : arrays) {
    // Of no bytes at all it would begin anew.
    if (!array.empty()) head.crc = libdeflate_crc32(head.crc, array.data(), array.size());
    head.crc = libdeflate_crc32(head.crc, zeros.data(), gap(array).size());
  }
  CacheFile file(path);
  file.write(std::as_bytes(std::span(&head, 1)));
  for (const ByteView array : arrays) {
    file.write(array);
    file.write(gap(array));
  }
  file.put_in_place();
}

}  // namespace

KnownListPtr cached_list(const ByteSource& source, const std::string& name, const fs::path& folder) {
  if (folder.empty() || source.size() < kWorthIt || source.size() > ListLimits::kBytes) return read_list(source, name);
  const fs::path path = place_of(source.size(), name, folder);
  auto loading = std::async(std::launch::async, [&] { return load(path, name); });
  const Key key = key_of(source, name);
  if (const Loaded loaded = loading.get(); loaded.list && loaded.key == key) return loaded.list;
  KnownListPtr list = read_list(source, name);
  if (key_of(source, name) == key) store(*list, key, path);  // else it was changed while it was read
  return list;
}

}  // namespace opifex
