/// A collection held against a known list, by content: which sets are there, what is missing, what is called otherwise.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/lists/known_list.hpp"

namespace opifex {

/// Bytes that a list may know: a file, or what it decodes to.
struct ListedView {
  ListedKind kind = ListedKind::rom;
  std::string through = {};  ///< "the ROM alone"; empty: the file itself
  std::uint64_t size_bytes = 0;
  std::vector<NamedHash> hashes = {};  ///< all that the lists have; empty: it could not be read, or nobody needed to
};

/// A sheet, rewritten with other names for its files; nothing if it has another number of them.
using SheetWriter = std::function<std::optional<std::string>(const std::vector<std::string>& names, bool crlf)>;

struct CollectedFile {
  std::string path;          ///< for people; "archive!member" in an archive
  std::string base;          ///< the last part of it
  std::string archive = {};  ///< the archive it lies in; empty: none
  bool of_image = false;     ///< one of the files of an image
  std::size_t unit = 0;      ///< the folder or the archive it lies in
  std::vector<ListedView> views = {};
  std::string unreadable = {};      ///< why; empty: it was read
  std::string not_comparable = {};  ///< why no list of whole dumps can know it ("scrubbed: ..."); empty: it can be
  std::optional<std::size_t> image =
      {};                       ///< files that one sheet names have one number, with the sheet; none: it is alone
  SheetWriter sheet = nullptr;  ///< of a cue sheet
};

/// Bytes of several files, or a piece of one: right content in another layout.
struct CollectedPiece {
  std::string path;                     ///< "disc.bin#track02", "disc.cue#merged"
  std::vector<std::size_t> files = {};  ///< what it consists of
  std::size_t unit = 0;
  ListedView view = {};
  bool merged = false;
};

struct Collection {
  std::vector<std::string> units;  ///< names: of a folder its own, of an archive that without its ending
  std::vector<CollectedFile> files;
  std::vector<CollectedPiece> pieces;
};

enum class FileVerdict { good, renamed, bad, duplicate, extra, layout, equivalent, differs, unknown, not_comparable };
std::string_view to_string(FileVerdict verdict);

enum class EntryState { good, renamed, bad, missing, nodump, unverifiable, equivalent, differs };
std::string_view to_string(EntryState state);

enum class SetVerdict { complete, partial, bad, absent, unverifiable };
std::string_view to_string(SetVerdict verdict);

/// Why a file of the right name is bad.
enum class BadReason {
  none,
  size,
  hash,
  other_content,  ///< it holds what another entry should
  unreadable
};
std::string_view to_string(BadReason reason);

struct FileMatch {
  FileVerdict verdict = FileVerdict::unknown;
  std::optional<std::uint32_t> entry = {};  ///< of the list
  std::string expected_name = {};           ///< of a renamed one
  BadReason reason = BadReason::none;
  std::string through = {};  ///< the view that matched, if not the file itself
  std::string by = {};       ///< the hash that decided; "crc32" proves less than the others
  std::optional<std::uint32_t> set = {};
};

struct EntryMatch {
  EntryState state = EntryState::missing;
  std::string file = {};  ///< or piece; empty: none
  BadReason reason = BadReason::none;
  bool known_bad = false;    ///< the list itself says that this dump is damaged
  std::string also_at = {};  ///< of a missing one: where the same content lies
};

struct SetMatch {
  std::uint32_t set = 0;
  SetVerdict verdict = SetVerdict::absent;
  std::vector<std::string> flags;  ///< "renamed", "known_bad", "has_nodump", "extra", "cue_equivalent" ..., in order
  std::vector<EntryMatch> entries;
  std::vector<std::string> extra;  ///< files that lie beside it and are none of its entries
};

struct ListMatch {
  std::vector<FileMatch> files;                      ///< one for each of the collection
  std::vector<std::optional<std::uint32_t>> pieces;  ///< the entry that each stands for
  std::vector<bool> piece_copies;                    ///< it has the content of an entry, which others stand for
  std::vector<SetMatch> sets;                        ///< those of which anything is there, in the order of the list
  std::map<SetVerdict, std::uint64_t> totals;
};

/// Entries whose content this is, in the order of the list; see dat.md section 7. At most `most`.
std::vector<std::uint32_t> entries_of_content(const KnownList& list, const ListedView& view);

/// One set as it is where nothing of it is there.
SetMatch absent_set(const KnownList& list, std::uint32_t set);

/// `collection.files` by path. Each file is given to one entry, in an order that keeps sets together that share tracks.
ListMatch match(const KnownList& list, const Collection& collection);

}  // namespace opifex
