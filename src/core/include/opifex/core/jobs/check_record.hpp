/// Is what a record tells of still so?
#pragma once

#include "opifex/core/jobs/job.hpp"
#include "opifex/core/jobs/record.hpp"

namespace opifex::jobs {

struct CheckRecordJob {
  std::vector<std::string> records;
  std::vector<std::string> folders = {};  ///< where files may be that are no longer at their places
  ReadRules reading = {};
  /// `words` are further records, and folders. Error (usage) for what would be passed over.
  static CheckRecordJob of(const std::vector<std::string>& words, const Settings& settings);
};

enum class FileState {
  unchanged,
  moved,    ///< not at its place; a file of the same content lies in one of the folders
  changed,  ///< at its place is something else, and its content nowhere
  gone,
  replaced,  ///< the job itself has put its output there
};
std::string_view to_string(FileState state);

enum class ContentState {
  not_recorded,
  same,  ///< it still decodes to what it was then
  differs,
  unreadable,  ///< it is there, and does not open or decode
  gone
};
std::string_view to_string(ContentState state);

struct CheckedFile {
  RecordedFile recorded;
  FileState state = FileState::gone;
  std::filesystem::path found = {};  ///< where its content is now; empty: nowhere
};

struct CheckedResult {
  std::vector<CheckedFile> inputs, outputs;
  ContentState input = ContentState::not_recorded, output = ContentState::not_recorded;
  std::string trouble = {};  ///< why a side is unreadable
  /// Both sides were decoded and compared just now, whole or as far as the record says; nothing: one is not there.
  std::optional<bool> agree = {};
};

struct RecordTold {
  std::filesystem::path file;
  Record record;
  std::vector<CheckedResult> results;  ///< one for each of the record's
  bool good = false;                   ///< no file is changed or gone, and what was recorded of the contents is so
};

Outcome run(const CheckRecordJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
