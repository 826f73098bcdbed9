#include <algorithm>
#include <array>
#include <charconv>
#include <unordered_set>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/cue/sheet.hpp"

namespace opifex::cue {
namespace {

constexpr std::string_view kUtf8Bom = "\xEF\xBB\xBF";

struct Encoding {
  std::string_view name;
  const char* code_page;  // as ICU knows it; null: no decoding needed
};
constexpr std::array kEncodings = {Encoding{"ascii", nullptr},        Encoding{"utf-8", nullptr},
                                   Encoding{"utf-8-bom", nullptr},    Encoding{"utf-16", "UTF-16LE"},
                                   Encoding{"utf-16-be", "UTF-16BE"}, Encoding{"cp1252", "windows-1252"},
                                   Encoding{"cp932", "windows-31j"}};

const char* code_page_of(std::string_view encoding) {
  for (const Encoding& e : kEncodings)
    if (e.name == encoding) return e.code_page;
  return nullptr;
}

[[noreturn]] void not_text(const std::string& file, const std::string& found) {
  throw Error({.code = "not_text",
               .what = "this is not the text of a cue sheet",
               .file = file,
               .found = found,
               .expected = "plain text",
               .hint = "name the .cue file, not its .bin"});
}

struct Line {
  std::string text;      // UTF-8
  std::string raw;       // as in the file; empty if the encoding is UTF-16
  std::uint32_t number;  // from 1
};

/// Lines end in CR LF, LF or CR, mixed; a Ctrl-Z ends the text.
std::vector<std::string_view> split_lines(std::string_view text) {
  text = text.substr(0, text.find('\x1A'));
  std::vector<std::string_view> lines;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find_first_of("\r\n"), text.size());
    lines.push_back(text.substr(0, end));
    const bool pair = text.substr(end, 2) == "\r\n";
    text.remove_prefix(std::min(text.size(), end + (pair ? 2 : 1)));
  }
  return lines;
}

std::vector<Line> decode_lines(std::string_view bytes, const std::string& encoding, const std::string& file) {
  std::vector<Line> lines;
  std::uint32_t number = 0;
  if (encoding.starts_with("utf-16")) {
    const auto text = decode(bytes.substr(2), code_page_of(encoding));
    if (!text) not_text(file, "broken UTF-16");
    if (text->find('\0') != std::string::npos) not_text(file, "a NUL character");
    for (const std::string_view line : split_lines(*text)) lines.push_back({std::string(line), {}, ++number});
    return lines;
  }
  if (encoding == "utf-8-bom") bytes.remove_prefix(kUtf8Bom.size());
  const char* code_page = code_page_of(encoding);
  for (const std::string_view raw : split_lines(bytes)) {
    // A byte without meaning in the code page: keep the ASCII part, so that the commands still work.
    std::string text = code_page ? decode(raw, code_page).value_or(printable(raw)) : std::string(raw);
    lines.push_back({std::move(text), std::string(raw), ++number});
  }
  return lines;
}

/// Word-processor quotes count as plain ones on a FILE line whose value begins with one.
std::string straighten_quotes(std::string_view value) {
  constexpr std::array<std::string_view, 3> kCurly = {"\xE2\x80\x9C", "\xE2\x80\x9D", "\xE2\x80\x9E"};
  const bool curly = std::any_of(kCurly.begin(), kCurly.end(), [&](auto q) { return value.starts_with(q); });
  std::string out(value);
  if (!curly) return out;
  for (const std::string_view q : kCurly)
    for (std::size_t at = out.find(q); at != std::string::npos; at = out.find(q, at)) out.replace(at, q.size(), "\"");
  return out;
}

/// A text value: from the first quote to the last one of the line, else the whole rest.
std::string text_value(std::string_view rest) {
  rest = trim(rest);
  if (!rest.starts_with('"')) return std::string(rest);
  const std::size_t last = rest.rfind('"');
  return std::string(last == 0 ? rest.substr(1) : rest.substr(1, last - 1));
}

enum class TypeWord { unknown, known, compressed };
TypeWord parse_type(std::string_view word, FileType& type) {
  const std::string upper = to_upper_ascii(word);
  if (upper == "BINARY")
    type = FileType::binary;
  else if (upper == "MOTOROLA")
    type = FileType::motorola;
  else if (upper == "WAVE")
    type = FileType::wave;
  else if (upper == "AIFF")
    type = FileType::aiff;
  else {
    constexpr std::array<std::string_view, 8> kCompressed = {"MP3", "FLAC", "OGG", "AAC", "WMA", "APE", "MP4", "M4A"};
    const bool known = std::find(kCompressed.begin(), kCompressed.end(), upper) != kCompressed.end();
    return known ? TypeWord::compressed : TypeWord::unknown;
  }
  return TypeWord::known;
}

const std::unordered_set<std::string_view> kTextCommands = {"TITLE",    "PERFORMER", "SONGWRITER", "COMPOSER",
                                                            "ARRANGER", "MESSAGE",   "GENRE",      "DISC_ID"};

class Parser {
 public:
  Parser(Sheet& sheet, const std::string& file) : sheet_(sheet), file_(file) { sheet_.sessions.push_back({}); }

  void line(const Line& line) {
    line_ = line.number;
    std::string_view rest = trim(line.text);
    if (rest.empty()) return;
    const std::size_t end = std::min(rest.find_first_of(" \t"), rest.size());
    const std::string command = to_upper_ascii(rest.substr(0, end));
    rest = trim(rest.substr(end));
    if (command == "FILE") return file_command(rest, line.raw);
    if (command == "TRACK") return track_command(rest);
    if (command == "INDEX") return index_command(rest);
    if (command == "PREGAP" || command == "POSTGAP") return gap_command(command, rest);
    if (command == "FLAGS") return flags_command(rest);
    if (command == "ISRC") return isrc_command(rest);
    if (command == "CATALOG") return catalogue_command(rest);
    if (command == "REM") return remark(rest);
    if (command == "CDTEXTFILE") {
      sheet_.cd_text_file = text_value(rest);
    } else if (kTextCommands.contains(command)) {
      (track_ ? track_->texts : sheet_.texts).emplace_back(command, text_value(rest));
    } else {
      warn("unknown_command", fmt::format("the command {} is not known; the line is skipped", printable(command)));
    }
  }

  void finish(std::uint32_t last_line) {
    line_ = last_line + 1;
    if (sheet_.files.empty())
      refuse("no_file", "the sheet names no file", {}, "a FILE line", "name the .cue file of the set");
    if (sheet_.tracks.empty()) refuse("no_track", "the sheet has no track", {}, "a TRACK line");
    end_track();
    std::vector<bool> used(sheet_.files.size());
    for (const SheetTrack& t : sheet_.tracks)
      for (const SheetIndex& i : t.indexes) used[i.file] = true;
    for (std::size_t i = 0; i < used.size(); ++i)
      if (!used[i]) warn("unused_file", fmt::format("no track uses the file {}", printable(sheet_.files[i].name)));
  }

 private:
  [[noreturn]] void refuse(std::string code, std::string what, std::string found = {}, std::string expected = {},
                           std::string hint = {}) const {
    throw Error({.code = std::move(code),
                 .what = "the cue sheet cannot be read: " + std::move(what),
                 .file = file_,
                 .line = line_,
                 .found = printable(found),
                 .expected = std::move(expected),
                 .hint = std::move(hint)});
  }
  void warn(std::string code, std::string message) {
    sheet_.warnings.push_back({std::move(code), fmt::format("line {}: {}", line_, message)});
  }

  void file_command(std::string_view rest, std::string_view raw_line) {
    const std::string value = straighten_quotes(rest);
    std::string name;
    std::string_view type_word;
    if (value.starts_with('"')) {
      const std::size_t last = value.rfind('"');
      if (last == 0) refuse("unterminated_quote", "the file name's quote is not closed", value);
      name = value.substr(1, last - 1);
      type_word = trim(std::string_view(value).substr(last + 1));
    } else {
      FileType ignored;
      const std::size_t blank = value.find_last_of(" \t");
      const std::string_view last = std::string_view(value).substr(blank == std::string::npos ? 0 : blank + 1);
      const bool has_type = blank != std::string::npos && parse_type(last, ignored) != TypeWord::unknown;
      name = std::string(trim(has_type ? std::string_view(value).substr(0, blank) : std::string_view(value)));
      if (has_type) type_word = last;
    }
    if (trim(name).empty()) refuse("no_file_name", "a FILE line without a name");
    SheetFile file{name, raw_name(raw_line, name), FileType::binary, line_};
    if (type_word.empty()) {
      file.type = fold_case(name).ends_with(".wav") ? FileType::wave : FileType::binary;
      warn("no_file_type",
           fmt::format("the file {} has no type; {} is assumed", printable(name), to_string(file.type)));
    } else {
      require_type(type_word, file.type);
    }
    add_file(std::move(file));
  }

  void require_type(std::string_view word, FileType& type) const {
    switch (parse_type(word, type)) {
      case TypeWord::known:
        return;
      case TypeWord::compressed:
        refuse("unsupported_file_type", "a compressed audio file is no dump", std::string(word),
               "BINARY, MOTOROLA, WAVE or AIFF", "dump the disc again; a lossy file cannot be turned back");
      case TypeWord::unknown:
        refuse("unknown_file_type", "the file's type is not known", std::string(word),
               "BINARY, MOTOROLA, WAVE or AIFF");
    }
  }

  static std::string raw_name(std::string_view raw_line, const std::string& fallback) {
    const std::size_t first = raw_line.find('"'), last = raw_line.rfind('"');
    if (first == std::string_view::npos || first == last) return fallback;
    return std::string(raw_line.substr(first + 1, last - first - 1));
  }

  void add_file(SheetFile file) {
    if (!sheet_.files.empty() && sheet_.files.back().name == file.name) {
      warn("file_repeated", fmt::format("{} is named twice in a row; its times go on", printable(file.name)));
      return;
    }
    for (const SheetFile& earlier : sheet_.files)
      if (earlier.name == file.name)
        refuse("file_reused", "a file comes back after another one", file.name, "each file once");
    sheet_.files.push_back(std::move(file));
    last_frames_ = -1;
  }

  void track_command(std::string_view rest) {
    const auto words = split_words(rest);
    if (sheet_.files.empty()) refuse("track_before_file", "a TRACK stands before the first FILE");
    if (words.size() < 2) refuse("bad_track", "a TRACK line needs a number and a mode", std::string(rest));
    const auto number = small_number(words[0]);
    if (!number || *number < 1 || *number > 99)
      refuse("bad_track_number", "the track number is out of range", std::string(words[0]), "01 to 99");
    const auto mode = cd::parse_track_mode(words[1]);
    if (!mode)
      refuse("unknown_mode", "the track's mode is not known", std::string(words[1]),
             "AUDIO, MODE1/2352, MODE2/2352 or their kin");
    if (track_ && *number != track_->number + 1)
      refuse("track_order", "the track numbers do not count up", fmt::format("{}", *number),
             fmt::format("{}", track_->number + 1));
    end_track();
    SheetTrack track;
    track.number = *number;
    track.mode = *mode;
    track.line = line_;
    track.session = sheet_.sessions.back().number;
    track.area = area_;
    sheet_.tracks.push_back(std::move(track));
    track_ = &sheet_.tracks.back();
  }

  void end_track() {
    if (!track_) return;
    const auto& indexes = track_->indexes;
    if (std::none_of(indexes.begin(), indexes.end(), [](const SheetIndex& i) { return i.number == 1; }))
      refuse("no_index01", fmt::format("track {} has no INDEX 01", track_->number));
  }

  void index_command(std::string_view rest) {
    if (!track_) refuse("index_outside_track", "an INDEX stands before the first TRACK");
    const auto words = split_words(rest);
    const auto number = words.empty() ? std::nullopt : small_number(words[0]);
    if (words.size() < 2 || !number || *number > 99)
      refuse("bad_index", "an INDEX line needs a number and a time", std::string(rest), "INDEX 01 mm:ss:ff");
    const std::int32_t frames = time(words[1]);
    const int previous = track_->indexes.empty() ? -1 : track_->indexes.back().number;
    if (previous < 0 ? *number > 1 : *number != previous + 1)
      refuse("index_order", "the indexes of a track do not count up", fmt::format("{}", *number),
             previous < 0 ? "00 or 01" : fmt::format("{:02}", previous + 1));
    check_time_rises(*number, frames);
    const FileType type = sheet_.files.back().type;
    const bool audio_file = type == FileType::wave || type == FileType::aiff;
    if (audio_file && track_->mode.kind != cd::TrackMode::Kind::audio)
      refuse("data_in_wave", "a data track cannot lie in an audio file", cd::to_string(track_->mode), "AUDIO");
    track_->indexes.push_back({*number, frames, sheet_.files.size() - 1, line_});
    last_frames_ = frames;
  }

  void check_time_rises(int number, std::int32_t frames) {
    if (frames > last_frames_) return;
    const bool same_file = !track_->indexes.empty() && track_->indexes.back().file == sheet_.files.size() - 1;
    const bool empty_gap = frames == last_frames_ && number == 1 && same_file && track_->indexes.back().number == 0;
    if (!empty_gap)
      refuse("index_time", "the times in a file do not rise", cd::to_string(cd::msf_of_frames(frames)),
             "after " + cd::to_string(cd::msf_of_frames(last_frames_)));
    warn("zero_gap", fmt::format("the gap of track {} has no length", track_->number));
  }

  void gap_command(std::string_view command, std::string_view rest) {
    if (!track_) refuse("gap_outside_track", fmt::format("a {} stands before the first TRACK", command));
    const bool pregap = command == "PREGAP";
    auto& gap = pregap ? track_->pregap : track_->postgap;
    if (gap) refuse("duplicate_command", fmt::format("a second {} in one track", command));
    const auto words = split_words(rest);
    gap = time(words.empty() ? std::string_view{} : words[0]);
    if (pregap != track_->indexes.empty())
      warn("misplaced_gap", fmt::format("{} stands {} the track's indexes; it counts all the same", command,
                                        pregap ? "after" : "before"));
  }

  std::int32_t time(std::string_view word) const {
    const auto msf = cd::parse_msf(word);
    if (!msf) refuse("bad_time", "this is no time", std::string(word), "mm:ss:ff with seconds to 59 and frames to 74");
    return cd::frames_of(*msf);
  }

  static std::optional<int> small_number(std::string_view word) {
    int value = 0;
    if (word.empty() || word.size() > 3) return std::nullopt;
    for (char c : word)
      if (c < '0' || c > '9') return std::nullopt;
    std::from_chars(word.data(), word.data() + word.size(), value);
    return value;
  }

  void flags_command(std::string_view rest) {
    if (!track_) return warn("unknown_command", "FLAGS stands before the first TRACK; skipped");
    for (const std::string_view word : split_words(rest)) {
      const std::string flag = to_upper_ascii(word);
      if (flag == "DCP")
        track_->flags.copy_permitted = true;
      else if (flag == "4CH")
        track_->flags.four_channels = true;
      else if (flag == "PRE")
        track_->flags.pre_emphasis = true;
      else if (flag == "SCMS")
        track_->flags.serial_copy = true;
      else if (flag != "DATA")
        warn("unknown_flag", fmt::format("the flag {} is not known", printable(flag)));
    }
  }

  void isrc_command(std::string_view rest) {
    std::string code;
    for (char c : to_upper_ascii(text_value(rest)))
      if (c != '-') code += c;
    const auto is_digit = [](char c) { return c >= '0' && c <= '9'; };
    const auto is_letter = [&](char c) { return is_digit(c) || (c >= 'A' && c <= 'Z'); };
    const bool good = code.size() == 12 && std::all_of(code.begin(), code.begin() + 5, is_letter) &&
                      std::all_of(code.begin() + 5, code.end(), is_digit);
    if (!good || !track_) return warn("bad_isrc", fmt::format("{} is no ISRC; ignored", printable(rest)));
    track_->isrc = code;
  }

  void catalogue_command(std::string_view rest) {
    const std::string code = text_value(rest);
    const bool good =
        code.size() == 13 && std::all_of(code.begin(), code.end(), [](char c) { return c >= '0' && c <= '9'; });
    if (!good) return warn("bad_catalog", fmt::format("{} is no catalogue number; ignored", printable(rest)));
    sheet_.catalogue = code;
  }

  /// Remarks with a meaning set sessions and areas; all others are kept.
  void remark(std::string_view rest) {
    const auto words = split_words(rest);
    const std::string first = words.empty() ? std::string{} : to_upper_ascii(words[0]);
    const int number = words.size() > 1 ? small_number(words[1]).value_or(0) : 0;
    const auto length = words.size() > 1 ? cd::parse_msf(words[1]) : std::nullopt;
    SheetSession& session = sheet_.sessions.back();
    if (first == "SESSION" && number >= 1 && number <= 99) {
      if (number > session.number) sheet_.sessions.push_back({.number = number});
    } else if (first == "LEAD-OUT" && length) {
      session.lead_out = cd::frames_of(*length);
    } else if (first == "LEAD-IN" && length) {
      session.lead_in = cd::frames_of(*length);
    } else if (first == "PREGAP" && length) {
      session.pregap = cd::frames_of(*length);
    } else if (to_upper_ascii(rest) == "SINGLE-DENSITY AREA") {
      area_ = cd::Area::single_density;
    } else if (to_upper_ascii(rest) == "HIGH-DENSITY AREA") {
      area_ = cd::Area::high_density;
    } else {
      (track_ ? track_->remarks : sheet_.remarks).emplace_back(rest);
    }
  }

  Sheet& sheet_;
  const std::string& file_;
  SheetTrack* track_ = nullptr;
  cd::Area area_ = cd::Area::none;
  std::int32_t last_frames_ = -1;
  std::uint32_t line_ = 0;
};

}  // namespace

std::string_view to_string(FileType type) {
  switch (type) {
    case FileType::binary:
      return "BINARY";
    case FileType::motorola:
      return "MOTOROLA";
    case FileType::wave:
      return "WAVE";
    case FileType::aiff:
      return "AIFF";
  }
  return "";
}

std::vector<std::string> candidate_encodings(std::string_view bytes, const std::string& file) {
  if (bytes.size() > kMaxSheetBytes)
    throw Error({.code = "too_large",
                 .what = "this is too large to be a cue sheet",
                 .file = file,
                 .found = human_size(bytes.size()),
                 .expected = "at most 1 MiB"});
  if (bytes.starts_with("\xFF\xFE")) return {"utf-16"};
  if (bytes.starts_with("\xFE\xFF")) return {"utf-16-be"};
  if (bytes.find('\0') != std::string_view::npos) not_text(file, "a NUL character");
  if (bytes.starts_with(kUtf8Bom)) {
    if (!is_utf8(bytes)) not_text(file, "broken UTF-8 after its mark");
    return {"utf-8-bom"};
  }
  if (std::all_of(bytes.begin(), bytes.end(), [](char c) { return static_cast<unsigned char>(c) < 0x80; }))
    return {"ascii"};
  if (is_utf8(bytes)) return {"utf-8"};
  return {"cp1252", "cp932"};
}

Sheet parse(std::string_view bytes, const std::string& encoding, const std::string& file) {
  Sheet sheet;
  sheet.encoding = encoding == "utf-16-be" ? "utf-16" : encoding;
  const std::vector<Line> lines = decode_lines(bytes, encoding, file);
  sheet.tracks.reserve(99);  // the parser points into it; track numbers cannot exceed 99
  Parser parser(sheet, file);
  for (const Line& line : lines) parser.line(line);
  parser.finish(static_cast<std::uint32_t>(lines.size()));
  return sheet;
}

bool looks_like_sheet(std::string_view head) {
  if (head.starts_with("\xFF\xFE") || head.starts_with("\xFE\xFF")) {
    std::string narrow;
    for (std::size_t i = head[0] == '\xFF' ? 2 : 3; i < head.size(); i += 2) narrow += head[i];
    return looks_like_sheet(narrow);
  }
  if (head.starts_with(kUtf8Bom)) head.remove_prefix(kUtf8Bom.size());
  if (head.find('\0') != std::string_view::npos) return false;
  for (const std::string_view line : split_lines(head)) {
    const auto words = split_words(line);
    if (words.empty()) continue;
    const std::string command = to_upper_ascii(words[0]);
    // "file = ..." is a line of some other kind of list.
    const bool assigned = words.size() >= 2 && words[1] == "=";
    if ((command == "FILE" && words.size() >= 2 && !assigned) || (command == "TRACK" && words.size() >= 3)) return true;
  }
  return false;
}

}  // namespace opifex::cue
