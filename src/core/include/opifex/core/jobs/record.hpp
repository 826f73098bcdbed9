/// A record: what a job has read and written, with hashes, so that it can be proved later. JSON by
/// data/schema/record.schema.json; nothing in it belongs to one computer.
#pragma once

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "opifex/core/check/content_digest.hpp"
#include "opifex/core/image/loss.hpp"

namespace opifex::jobs {

struct RecordedFile {
  std::filesystem::path path;  ///< in the file: as it is seen from the record's folder
  std::uint64_t size_bytes = 0;
  std::string sha1 = {}, sha256 = {};
  bool replaced = false;  ///< an input whose place the output has taken: it is there no more
};

/// What an image held when the record was made.
struct RecordedContent {
  std::filesystem::path lead;  ///< the file that opens it
  std::string format = {};     ///< id
  std::string inside = {};     ///< of an archive: the path of the member that opens it
  ContentDigest digest = {};
};

/// One image, or whatever a job makes one of.
struct RecordedResult {
  std::string what;  ///< for people: what it became
  std::vector<RecordedFile> inputs = {}, outputs = {};
  std::optional<RecordedContent> input = {}, output = {};
  bool same = false;           ///< both hold the same, by their digests
  std::string compared = {};   ///< of others: what of the input the output holds, byte for byte; empty: not compared
  std::string kept_sha1 = {};  ///< of the bytes that were compared
  std::vector<std::string> steps = {};
  std::vector<Loss> losses = {};
};

struct Record {
  std::string job, version;
  std::int64_t began = 0, ended = 0;  ///< seconds since 1970
  std::vector<std::pair<std::string, std::string>> settings = {};
  std::vector<RecordedResult> results = {};
  std::vector<std::string> failures = {};  ///< of inputs that could not be done
};

/// The text of the file that is going to lie in `folder`.
std::string record_text(const Record& record, const std::filesystem::path& folder);

/// Error (refused, "no_record") for a file that is none, or is broken; "too_large" above 16 MiB.
Record read_record(const std::filesystem::path& file);
/// The same of a text that is there already; paths are seen from the folder of `file`.
Record parse_record(std::string_view text, const std::filesystem::path& file);

}  // namespace opifex::jobs
