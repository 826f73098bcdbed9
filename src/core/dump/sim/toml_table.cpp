#include "toml_table.hpp"

#include "opifex/core/io/byte_source.hpp"

namespace opifex::dump {

toml::table parse_simulation(const std::filesystem::path& file, const SimulatedKind& kind) {
  constexpr std::size_t kMostBytes = 1 << 20;
  const SourcePtr source = open_file(file);
  if (source->size() > kMostBytes)
    throw Error({.code = "bad_simulation",
                 .what = fmt::format("this is no description of a simulated {}", kind.name),
                 .file = file.string()});
  const Bytes text = read_up_to(*source, 0, kMostBytes);
  try {
    return toml::parse(as_text(text), file.string());
  } catch (const toml::parse_error& e) {
    throw Error({.code = "bad_simulation",
                 .what = fmt::format("the simulated {}'s file is no TOML: {}", kind.name, printable(e.description())),
                 .file = file.string(),
                 .line = e.source().begin.line});
  }
}

}  // namespace opifex::dump
