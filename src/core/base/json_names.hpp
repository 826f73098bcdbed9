/// Names of files in JSON: any byte may stand in a name, text alone in JSON.
#pragma once

#include <filesystem>
#include <nlohmann/json.hpp>
#include <string>

namespace opifex {

/// The text itself, or `{"hex": "..."}` if it is no UTF-8.
nlohmann::json name_json(const std::string& name);
/// Back from it. std::nullopt if it is neither.
std::optional<std::string> name_of(const nlohmann::json& json);
/// `path` as it is seen from `folder`, with '/' between its parts: what a file on the same drive keeps.
std::string seen_from(const std::filesystem::path& folder, const std::filesystem::path& path);

}  // namespace opifex
