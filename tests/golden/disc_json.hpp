/// A disc as the vectors' expected.json write it, so that whole layouts are compared at once.
#pragma once

#include <algorithm>

#include "opifex/core/image/format.hpp"

#include "testkit.hpp"

namespace opifex::testkit {

inline nlohmann::json tracks_json(const Image& image) {
  nlohmann::json tracks = nlohmann::json::array();
  for (const cd::Track& t : image.cd()->layout().tracks) {
    nlohmann::json indexes = nlohmann::json::object(), stored = nlohmann::json::array();
    for (const auto& [number, lba] : t.indexes) indexes[fmt::format("{:02}", number)] = lba;
    for (const Extent& e : image.cd()->extents())
      if (e.track == t.number)
        stored.push_back({{"file", e.file},
                          {"offset", e.offset},
                          {"sectors", e.sectors},
                          {"sector_size", stored_bytes(e.form)},
                          {"lba", e.lba}});
    nlohmann::json track = {{"number", t.number},
                            {"mode", to_string(t.mode)},
                            {"type", t.mode.is_audio() ? "audio" : "data"},
                            {"session", t.session},
                            {"pregap_directive", t.pregap_unstored},
                            {"postgap_directive", t.postgap_unstored},
                            {"indexes", indexes},
                            {"pregap_lba", t.pregap_lba},
                            {"start_lba", t.start_lba},
                            {"end_lba", t.end_lba},
                            {"stored", stored}};
    if (t.area != cd::Area::none) track["area"] = t.area == cd::Area::single_density ? "single" : "high";
    if (!t.isrc.empty()) track["isrc"] = t.isrc;
    for (const char* key : {"TITLE", "PERFORMER", "SONGWRITER"}) {
      std::string name = key;
      std::transform(name.begin(), name.end(), name.begin(), [](char c) { return static_cast<char>(c | 0x20); });
      if (const auto text = cd::find_text(t.texts, key)) track[name] = *text;
    }
    nlohmann::json flags = nlohmann::json::array();
    if (t.flags.copy_permitted) flags.push_back("DCP");
    if (t.flags.four_channels) flags.push_back("4CH");
    if (t.flags.pre_emphasis) flags.push_back("PRE");
    if (t.flags.serial_copy) flags.push_back("SCMS");
    if (!flags.empty()) track["flags"] = flags;
    tracks.push_back(track);
  }
  return tracks;
}

inline nlohmann::json warning_codes(const std::vector<Warning>& warnings) {
  std::vector<std::string> codes;
  for (const Warning& w : warnings) codes.push_back(w.code);
  std::sort(codes.begin(), codes.end());
  codes.erase(std::unique(codes.begin(), codes.end()), codes.end());
  return codes;
}

inline nlohmann::json sessions_json(const cd::Layout& layout) {
  nlohmann::json sessions = nlohmann::json::array();
  for (const cd::Session& s : layout.sessions)
    sessions.push_back({{"number", s.number},
                        {"first_track", s.first_track},
                        {"last_track", s.last_track},
                        {"leadout_lba", s.lead_out}});
  return sessions;
}

}  // namespace opifex::testkit
