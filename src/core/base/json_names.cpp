#include "json_names.hpp"

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex {

using nlohmann::json;

json name_json(const std::string& name) { return is_utf8(name) ? json(name) : json{{"hex", hex(as_view(name))}}; }

std::optional<std::string> name_of(const json& value) {
  if (value.is_string()) return value.get<std::string>();
  if (!value.is_object() || !value.contains("hex") || !value["hex"].is_string()) return std::nullopt;
  const auto& digits = value["hex"].get_ref<const std::string&>();
  if (digits.size() % 2 != 0 || digits.find_first_not_of("0123456789abcdef") != digits.npos) return std::nullopt;
  std::string name;
  for (std::size_t i = 0; i < digits.size(); i += 2)
    name += static_cast<char>(std::stoi(digits.substr(i, 2), nullptr, 16));
  return name;
}

std::string seen_from(const std::filesystem::path& folder, const std::filesystem::path& path) {
  // An empty path is this folder, and std::filesystem::absolute() refuses it.
  const auto absolute = [](const std::filesystem::path& p) {
    return std::filesystem::absolute(p.empty() ? "." : p).lexically_normal();
  };
  return absolute(path).lexically_relative(absolute(folder)).generic_string();
}

}  // namespace opifex
