#include <algorithm>
#include <sstream>

#include <toml++/toml.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/jobs/patch.hpp"
#include "opifex/core/jobs/save.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

constexpr const char* kList = "versions.toml";

std::string list_text(const std::vector<SaveVersion>& versions) {
  toml::array all;
  for (const SaveVersion& v : versions)
    all.push_back(toml::table{{"file", v.file.filename().string()},
                              {"stored", v.stored},
                              {"sha1", v.sha1},
                              {"size", static_cast<std::int64_t>(v.size_bytes)},
                              {"origin", v.origin}});
  std::ostringstream text;
  text << toml::table{{"version", std::move(all)}} << "\n";
  return text.str();
}

}  // namespace

SaveHistory::SaveHistory(const fs::path& save, fs::path folder)
    : save_(save), folder_(folder.empty() ? fs::path(save.string() + ".history") : std::move(folder)) {}

std::vector<SaveVersion> SaveHistory::versions() const {
  const fs::path list = folder_ / kList;
  if (!fs::exists(list)) return {};
  const auto bad = [&](std::string found) {
    throw Error({.code = "bad_history",
                 .what = "the list of kept saves cannot be understood",
                 .file = list.string(),
                 .found = std::move(found),
                 .hint = "the saves themselves lie beside it; move the list away to begin a new one"});
  };
  std::vector<SaveVersion> versions;
  try {
    const Bytes text = read_save_file(list);
    const toml::table root = toml::parse(as_text(text), list.string());
    const toml::array* all = root["version"].as_array();
    if (!all) bad("no versions in it");
    for (const toml::node& node : *all) {
      const toml::table* t = node.as_table();
      if (!t) bad("an entry that is none");
      const std::string name = (*t)["file"].value_or("");
      if (name.empty() || fs::path(name).filename() != name) bad("a file elsewhere");
      SaveVersion v{
          .file = folder_ / name,
          .stored = (*t)["stored"].value_or(""),
          .sha1 = (*t)["sha1"].value_or(""),
          .origin = (*t)["origin"].value_or(""),
          .size_bytes = static_cast<std::uint64_t>(std::max<std::int64_t>(0, (*t)["size"].value_or(std::int64_t{0})))};
      std::error_code error;
      v.sound = fs::is_regular_file(v.file, error) && digest_of("sha1", read_save_file(v.file)) == v.sha1;
      versions.push_back(std::move(v));
    }
  } catch (const toml::parse_error& e) {
    bad(printable(e.description()));
  }
  return versions;
}

SaveVersion SaveHistory::store(ByteView bytes, const std::string& origin) const {
  std::vector<SaveVersion> all = versions();
  const std::string sha1 = digest_of("sha1", bytes);
  if (!all.empty() && all.back().sound && all.back().sha1 == sha1) return all.back();
  SaveVersion v{.file = {}, .stored = date_of_now(), .sha1 = sha1, .origin = origin, .size_bytes = bytes.size()};
  for (unsigned n = 1; v.file.empty() || fs::exists(fs::symlink_status(v.file)); ++n)
    v.file = folder_ / fmt::format("{} {}{}{}", v.stored, sha1.substr(0, 8), n == 1 ? "" : fmt::format(" {}", n),
                                   save_.extension().string());
  // The bytes first: a list that names what is not there would be worse than bytes that no list names.
  OutputSet data(Existing::keep);
  data.add(v.file).write(bytes);
  data.finish_writing();
  data.commit();
  if (digest_of("sha1", read_save_file(v.file)) != sha1)
    throw Error({.fault = Fault::device,
                 .code = "proof_failed",
                 .what = "the kept save is not what it should be",
                 .file = v.file.string(),
                 .hint = "nothing else was changed; check the drive"});
  all.push_back(v);
  write_whole_file(folder_ / kList, list_text(all), Existing::replace);
  return v;
}

}  // namespace opifex::jobs
