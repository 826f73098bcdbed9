#include "opifex/core/io/key_ring.hpp"

#include <algorithm>

#include <toml++/toml.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/byte_source.hpp"

namespace opifex {
namespace {

[[noreturn]] void fail(const std::filesystem::path& file, std::string found, std::string expected,
                       std::optional<std::uint32_t> line) {
  throw Error({.code = "bad_key_file",
               .what = "the key file cannot be used",
               .file = file.string(),
               .line = line,
               .found = std::move(found),
               .expected = std::move(expected)});
}

std::optional<AesKey> parse_key(std::string_view text) {
  AesKey key{};
  std::size_t digits = 0;
  text = trim(text);
  if (text.starts_with("0x") || text.starts_with("0X")) text.remove_prefix(2);
  for (const char c : text) {
    if (c == ' ' || c == ':') continue;
    const std::size_t value =
        std::string_view("0123456789abcdef").find(static_cast<char>(c >= 'A' && c <= 'F' ? c + 32 : c));
    if (value == std::string_view::npos || digits >= 2 * key.size()) return std::nullopt;
    key[digits / 2] = key[digits / 2] << 4 | static_cast<std::byte>(value);
    ++digits;
  }
  return digits == 2 * key.size() ? std::optional(key) : std::nullopt;
}

/// A file that is nothing but a key: 16 bytes, or 32 hexadecimal digits.
std::optional<AesKey> bare_key(ByteView bytes) {
  AesKey key{};
  if (bytes.size() == key.size()) {
    std::copy(bytes.begin(), bytes.end(), key.begin());
    return key;
  }
  std::string_view text = as_text(bytes);
  if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
  return parse_key(text);
}

/// Letters and digits, without case: "BLES-01234" and "bles01234" are one name.
std::string bare_name(std::string_view name) {
  std::string out;
  for (const char c : to_upper_ascii(name))
    if ((c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || (static_cast<unsigned char>(c) & 0x80) != 0) out += c;
  return out;
}

constexpr std::size_t kMostBare = 256;  // 32 digits with blanks, colons and a line end

}  // namespace

std::shared_ptr<const KeyRing> KeyRing::read(const std::filesystem::path& place) {
  namespace fs = std::filesystem;
  constexpr std::size_t kMostBytes = 4 << 20, kMostFiles = 100'000;
  auto ring = std::make_shared<KeyRing>();
  ring->file_ = place;
  std::error_code error;
  if (fs::is_directory(place, error)) {
    ring->folder_ = true;
    for (fs::directory_iterator i(place, error), end; i != end && ring->files_.size() < kMostFiles; i.increment(error))
      if (i->is_regular_file(error)) ring->files_.push_back(i->path());
    if (error) throw_system_error("cannot list the folder of keys", place.string(), error.value());
    std::sort(ring->files_.begin(), ring->files_.end());
    return ring;
  }
  const SourcePtr source = open_file(place);
  if (source->size() > kMostBytes) fail(place, "more than 4 MiB", "a small file", {});
  const Bytes bytes = read_up_to(*source, 0, kMostBytes);
  if (bytes.size() <= kMostBare) ring->bare_ = bare_key(bytes);
  if (!ring->bare_) ring->read_toml(bytes);
  return ring;
}

void KeyRing::read_toml(ByteView text) {
  try {
    const toml::table root = toml::parse(as_text(text));
    const auto take = [&](const char* name, std::map<std::string, Entry>& into) {
      const toml::table* table = root[name].as_table();
      if (!table) return false;
      for (const auto& [key, value] : *table)
        into[to_upper_ascii(key.str())] = {value.value<std::string>().value_or(""), value.source().begin.line};
      return true;
    };
    const bool discs = take("disc-keys", discs_), consoles = take("common-keys", consoles_);
    if (!discs && !consoles) fail(file_, "no table of this name", "[disc-keys] or [common-keys]", {});
  } catch (const toml::parse_error& e) {
    fail(file_, fmt::format("{} bytes that are no key and no TOML", text.size()),
         "16 bytes, 32 hexadecimal digits, or [disc-keys] with lines \"TITLE-ID\" = \"32 hexadecimal digits\"",
         e.source().begin.line);
  }
}

std::optional<AesKey> KeyRing::find(const std::map<std::string, Entry>& table, const std::string& name) const {
  const auto at = table.find(to_upper_ascii(name));
  if (at == table.end()) return std::nullopt;
  const auto key = parse_key(at->second.text);
  if (!key) fail(file_, "another value", "32 hexadecimal digits in quotes", at->second.line);
  return key;
}

std::vector<FoundKey> KeyRing::named(const std::vector<std::string>& names) const {
  constexpr std::size_t kMostTried = 16, kShortest = 3;
  std::vector<FoundKey> found;
  for (const std::string& name : names) {
    const std::string wanted = bare_name(name);
    if (wanted.size() < kShortest) continue;
    for (const auto& file : files_) {
      if (bare_name(file.stem().string()).find(wanted) == std::string::npos || found.size() >= kMostTried) continue;
      const bool known = std::any_of(found.begin(), found.end(), [&](const FoundKey& f) { return f.file == file; });
      const Bytes bytes = read_up_to(*open_file(file), 0, kMostBare);
      if (const auto key = bare_key(bytes); key && !known) found.push_back({*key, file});
    }
  }
  return found;
}

std::vector<FoundKey> KeyRing::disc_keys(const std::vector<std::string>& names) const {
  if (bare_) return {{*bare_, file_}};
  if (folder_) return named(names);
  for (const std::string& name : names)
    if (const auto key = find(discs_, name)) return {{*key, file_}};
  return {};
}

std::optional<AesKey> KeyRing::common_key(const std::string& console) const {
  if (bare_) return bare_;
  if (!folder_) return find(consoles_, console);
  const std::string wanted = bare_name(console);
  for (const FoundKey& found : named({console})) {
    // "wii" is not "wii-korean": what else the name says must be about keys.
    std::string rest = bare_name(found.file.stem().string());
    rest.erase(rest.find(wanted), wanted.size());
    for (const char* word : {"COMMON", "KEY"})
      if (const std::size_t at = rest.find(word); at != std::string::npos)
        rest.erase(at, std::string_view(word).size());
    if (rest.empty()) return found.key;
  }
  return std::nullopt;
}

std::string KeyRing::described() const {
  if (bare_) return "a file that is one key";
  if (folder_) return fmt::format("a folder of {} files", files_.size());
  return fmt::format("a key file with {} disc keys and {} common keys", discs_.size(), consoles_.size());
}

}  // namespace opifex
