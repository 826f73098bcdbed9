#include "opifex/core/lists/read_list.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/inputs.hpp"

#include "cache.hpp"
#include "lines.hpp"
#include "readers.hpp"

namespace opifex {

namespace fs = std::filesystem;

namespace {

constexpr std::size_t kHead = 4096;

/// Words and numbers of a file's ending in lower case, with the dot.
std::string ending(const std::string& name) { return fold_case(fs::path(name).extension().string()); }

bool is_sum_ending(const std::string& e) { return e == ".sfv" || e == ".md5" || e == ".sha1" || e == ".sha256"; }

/// `word (`, and nothing or a blank behind it.
bool opens_block(std::string_view line) {
  line = trim(line);
  const std::size_t end = line.find_first_of(" \t");
  if (end == 0 || end == std::string_view::npos || line.find_first_of("()\"=") < end) return false;
  const std::string_view rest = trim(line.substr(end));
  return rest == "(" || rest.starts_with("( ") || rest.starts_with("(\t");
}

/// The first line with anything in it; empty: there is none.
std::string first_line(const ByteSource& source, const std::string& name) {
  ListLines lines(source, name);
  while (const auto line = lines.next())
    if (!trim(*line).empty() && trim(*line) != "\x1A") return std::string(trim(*line));
  return {};
}

/// XML tells itself by its first character, in whatever encoding expat reads.
bool begins_as_xml(const ByteSource& source) {
  const Bytes head = read_up_to(source, 0, kHead);
  std::string_view text = as_text(head);
  for (const std::string_view mark :
       {std::string_view("\xEF\xBB\xBF"), std::string_view("\xFF\xFE"), std::string_view("\xFE\xFF")})
    if (text.starts_with(mark)) {
      text.remove_prefix(mark.size());
      break;
    }
  const std::size_t at = text.find_first_not_of(std::string_view(" \t\r\n\0", 5));
  return at != std::string_view::npos && text[at] == '<';
}

KnownListPtr read_form(const ByteSource& source, const std::string& name) {
  ListBuilder builder(name);
  if (begins_as_xml(source)) {
    read_xml_list(source, builder);
    return builder.finish(ListKind::xml);
  }
  const std::string first = first_line(source, name);
  if (first.empty()) refuse_list(name, "empty_file", 0, "this list is empty");
  const std::string end = ending(name);
  if (!is_sum_ending(end) && opens_block(first)) {
    read_text_list(source, builder);
    return builder.finish(ListKind::text);
  }
  builder.begin_set();
  builder.set_field(SetField::name, fs::path(name).stem().string());
  const SumTie tie = end == ".sfv" ? SumTie::sfv : is_sum_ending(end) ? SumTie::sums : SumTie::none;
  const ListKind kind = read_sum_list(source, tie, builder);
  builder.end_set();
  return builder.finish(kind);
}

class Finder {
 public:
  Finder(const fs::path& cache, JobContext& context) : cache_(cache), context_(context) {}

  void add_word(const std::string& word) {
    if (fs::is_directory(word)) return add_folder(word);
    if (const ArchivePtr archive = open_archive(word, {})) return add_archive(*archive, word, Among::named);
    found_.lists.push_back(read(*open_file(word), word));
  }

  Lists take() { return std::move(found_); }

 private:
  /// A file that was named has to be a list; of those in a folder the others are none of our business.
  enum class Among { named, others };

  KnownListPtr read(const ByteSource& source, const std::string& name) {
    context_.progress.check_stop();
    return cached_list(source, name, cache_);
  }

  void add_folder(const std::string& folder) {
    const std::size_t before = found_.lists.size() + found_.refused.size();
    std::vector<fs::path> files;
    std::error_code error;
    fs::recursive_directory_iterator at(folder, fs::directory_options::skip_permission_denied, error);
    for (; !error && at != fs::recursive_directory_iterator(); at.increment(error)) {
      std::error_code ignored;
      if (!at->is_symlink(ignored) && at->is_regular_file(ignored)) files.push_back(at->path());
    }
    if (error) throw_system_error("cannot look through the folder", folder, error.value());
    std::sort(files.begin(), files.end());
    for (const fs::path& file : files) add_file(file.string());
    if (found_.lists.size() + found_.refused.size() == before)
      throw Error({.code = "no_list",
                   .what = "there is no known list in this folder",
                   .file = folder,
                   .hint = "lists are XML datafiles, the older form in parentheses, or checksums with names"});
  }

  void add_file(const std::string& file) {
    try {
      if (const ArchivePtr archive = open_archive(file, {})) return add_archive(*archive, file, Among::others);
      add_source(*open_file(file), file);
    } catch (const Error& e) {
      if (e.details.fault == Fault::interrupted) throw;
      found_.refused.push_back({file, e.details});
    }
  }

  void add_source(const ByteSource& source, const std::string& name) {
    if (!may_be_list(source)) return;
    try {
      found_.lists.push_back(read(source, name));
    } catch (const Error& e) {
      if (e.details.fault == Fault::interrupted) throw;
      // A text that lies beside the lists is none of them.
      if (e.details.code == "unknown_format" || e.details.code == "empty_file") return;
      found_.refused.push_back({name, e.details});
    }
  }

  /// Images and pictures have zeros in their first bytes.
  static bool may_be_list(const ByteSource& source) {
    if (source.size() > ListLimits::kBytes) return false;
    const Bytes head = read_up_to(source, 0, kHead);
    const std::string_view text = as_text(head);
    return text.starts_with("\xFF\xFE") || text.starts_with("\xFE\xFF") || text.find('\0') == std::string_view::npos;
  }

  void add_archive(const Archive& archive, const std::string& path, Among among) {
    const std::size_t before = found_.lists.size() + found_.refused.size();
    for (std::size_t i = 0; i < archive.members().size(); ++i) {
      const ArchiveMember& member = archive.members()[i];
      if (member.folder || !member.refused.empty()) continue;
      add_source(*archive.open_member(i), path + "/" + member.name);
    }
    if (among == Among::named && found_.lists.size() + found_.refused.size() == before)
      throw Error({.code = "no_list",
                   .what = "there is no known list in this archive",
                   .file = path,
                   .hint = "lists are XML datafiles, the older form in parentheses, or checksums with names"});
  }

  const fs::path& cache_;
  JobContext& context_;
  Lists found_;
};

}  // namespace

KnownListPtr read_list(const ByteSource& source, const std::string& name) {
  if (source.size() > ListLimits::kBytes)
    refuse_list(name, "too_large", 0, "this file is larger than 512 MiB: no list is");
  return read_form(source, name);
}

Lists find_lists(const std::vector<std::string>& words, const fs::path& cache, JobContext& context) {
  Finder finder(cache, context);
  for (const std::string& word : words) finder.add_word(word);
  return finder.take();
}

}  // namespace opifex
