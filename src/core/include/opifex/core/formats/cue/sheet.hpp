/// The text of a cue sheet: parsing it, and printing one. Nothing here opens a file.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "opifex/core/base/error.hpp"
#include "opifex/core/cd/layout.hpp"

namespace opifex::cue {

enum class FileType { binary, motorola, wave, aiff };
std::string_view to_string(FileType type);

struct SheetFile {
  std::string name;      ///< UTF-8, as written
  std::string raw_name;  ///< the bytes in the sheet, for drives whose names are in an old code page
  FileType type = FileType::binary;
  std::uint32_t line = 0;
};

struct SheetIndex {
  int number = 1;
  std::int32_t frames = 0;  ///< from the start of the file
  std::size_t file = 0;     ///< index into Sheet::files
  std::uint32_t line = 0;
};

struct SheetTrack {
  int number = 1;
  cd::TrackMode mode = {};
  std::uint32_t line = 0;
  std::optional<std::int32_t> pregap = {}, postgap = {};
  std::vector<SheetIndex> indexes = {};
  cd::TrackFlags flags = {};
  std::string isrc = {};
  cd::Texts texts = {};
  std::vector<std::string> remarks = {};
  int session = 1;
  cd::Area area = cd::Area::none;
};

/// REM lines between two sessions: times as written, in frames.
struct SheetSession {
  int number = 1;
  std::optional<std::int32_t> lead_out = {}, lead_in = {},
                              pregap = {};  ///< lead_out: of this session; the others before it
};

struct Sheet {
  std::string encoding;  ///< "ascii", "utf-8", "utf-8-bom", "utf-16", "cp1252", "cp932"
  std::vector<SheetFile> files;
  std::vector<SheetTrack> tracks;
  std::vector<SheetSession> sessions;  ///< at least one
  std::string catalogue, cd_text_file;
  cd::Texts texts;
  std::vector<std::string> remarks;
  std::vector<Warning> warnings;
};

inline constexpr std::size_t kMaxSheetBytes = 1 << 20;

/// The encodings a sheet may be in, best first: one if it is certain, else the code pages to try. Error: not_text,
/// too_large.
std::vector<std::string> candidate_encodings(std::string_view bytes, const std::string& file);

/// Parses the sheet under one of those encodings. `file` is for messages. Error with the breach's name and line.
Sheet parse(std::string_view bytes, const std::string& encoding, const std::string& file);

/// True if the text could be a cue sheet: a FILE or TRACK command near its start.
bool looks_like_sheet(std::string_view head);

/// A FILE of a sheet to print, with the place of each track's indexes in it.
struct PrintedIndex {
  int number;
  std::size_t file;
  std::int64_t frames;
};
struct PrintedTrack {
  const cd::Track* track;
  cd::TrackMode mode;
  std::vector<PrintedIndex> indexes;
};

/// UTF-8, CR LF; names quoted, `"` in values becomes `'`.
std::string print(const cd::Layout& layout, const std::vector<std::string>& file_names,
                  const std::vector<PrintedTrack>& tracks);

}  // namespace opifex::cue
