#include "opifex/core/io/key_ring.hpp"

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

}  // namespace

std::shared_ptr<const KeyRing> KeyRing::read(const std::filesystem::path& file) {
  constexpr std::size_t kMostBytes = 4 << 20;
  const SourcePtr source = open_file(file);
  if (source->size() > kMostBytes) fail(file, "more than 4 MiB", "a small text file", {});
  const Bytes text = read_up_to(*source, 0, kMostBytes);
  auto ring = std::make_shared<KeyRing>();
  ring->file_ = file;
  try {
    const toml::table root = toml::parse(as_text(text));
    const auto take = [&](const char* name, std::map<std::string, Entry>& into) {
      const toml::table* table = root[name].as_table();
      if (!table) return false;
      for (const auto& [key, value] : *table)
        into[to_upper_ascii(key.str())] = {value.value<std::string>().value_or(""), value.source().begin.line};
      return true;
    };
    const bool discs = take("disc-keys", ring->discs_), consoles = take("common-keys", ring->consoles_);
    if (!discs && !consoles) fail(file, "no table of this name", "[disc-keys] or [common-keys]", {});
  } catch (const toml::parse_error& e) {
    fail(file, "no TOML", "[disc-keys] with lines \"TITLE-ID\" = \"32 hexadecimal digits\"", e.source().begin.line);
  }
  return ring;
}

std::optional<AesKey> KeyRing::find(const std::map<std::string, Entry>& table, const std::string& name) const {
  const auto at = table.find(to_upper_ascii(name));
  if (at == table.end()) return std::nullopt;
  const auto key = parse_key(at->second.text);
  if (!key) fail(file_, "another value", "32 hexadecimal digits in quotes", at->second.line);
  return key;
}

std::optional<AesKey> KeyRing::disc_key(const std::string& title_id) const { return find(discs_, title_id); }
std::optional<AesKey> KeyRing::common_key(const std::string& console) const { return find(consoles_, console); }

}  // namespace opifex
