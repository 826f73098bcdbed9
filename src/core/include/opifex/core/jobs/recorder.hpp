/// Listens to a job and writes down what it did.
#pragma once

#include "opifex/core/jobs/job.hpp"
#include "opifex/core/jobs/record.hpp"

namespace opifex::jobs {

struct RecordRequest {
  std::filesystem::path file;      ///< the record
  std::string job, version;        ///< of the program
  std::vector<std::string> words;  ///< what the user named
  Existing existing = Existing::keep;
  ReadRules reading = {};
  std::vector<std::pair<std::string, std::string>> settings = {};  ///< that the user chose: recorded_settings()
  bool in_place = false;  ///< the job changes files it was given: they are hashed before it begins
};

/// The settings of a record: those that were given, files as they are seen from the record's folder.
std::vector<std::pair<std::string, std::string>> recorded_settings(const Settings& settings,
                                                                   std::span<const Setting* const> list,
                                                                   const std::filesystem::path& folder);

/// Passes all on to another listener.
class Recorder final : public Listener {
 public:
  /// Error (needs_word, "exists") if there is such a file already.
  Recorder(Listener& outer, RecordRequest request, JobContext& context);
  ~Recorder() override;

  void result(const Identified&) override;
  void result(const Checked&) override;
  void result(const Compared&) override;
  void result(const Written&) override;
  void result(const Listed&) override;
  void result(const ExtractedFiles&) override;
  void result(const Renamed&) override;
  void result(const RenamedByList&) override;
  void result(const Rescued&) override;
  void result(const Dumped&) override;
  void result(const CopiedFolder&) override;
  void result(const DumpedCartridge&) override;
  void result(const PatchTold&) override;
  void result(const SaveTold&) override;
  void result(const Changed&) override;
  void result(const Edited&) override;
  void result(const KnownTold&) override;
  void result(const ListTold&) override;
  void result(const MissingTold&) override;
  void result(const ListMade&) override;
  void result(const RecordTold&) override;
  void result(const ShelfTold&) override;
  void message(const Warning&) override;
  void failed(const Error&) override;
  void planned(const BatchPlan&) override;
  void begins(const BatchStep&) override;
  void ended(const BatchSummary&) override;

  /// Hashes everything once more as it lies there now, and writes the record. Nothing for a job that only planned, or
  /// wrote nothing; then there is no record, and false comes back. Error: those of reading; "exists" if the record
  /// would replace one of the files it is about.
  bool finish();

 private:
  struct State;
  std::unique_ptr<State> state_;
};

/// What a dump or a rescue has written, as the record beside it has it. `record` has the job, the version, and when it
/// began; `lead` opens the image.
Record record_of_dump(Record record, const std::filesystem::path& lead,
                      const std::vector<std::filesystem::path>& inputs,
                      const std::vector<std::filesystem::path>& outputs, JobContext& context);

/// All files behind what the user named: those of an image, those below a folder, or the file itself.
std::vector<std::filesystem::path> files_behind(const std::vector<std::string>& words, const ReadRules& rules);

/// Hashes of a file as a record has them. Error: those of reading.
RecordedFile record_file(const std::filesystem::path& path, JobContext& context);

/// Opens what a record has the content of, decrypted if its keys are there.
Image open_recorded(const RecordedContent& content, const ReadRules& rules);

/// Compares what of `input` `output` can hold, byte for byte; nothing if that differs, or cannot be compared.
struct Kept {
  std::string compared, sha1;
};
std::optional<Kept> compare_kept(const Image& input, const Image& output, JobContext& context);

}  // namespace opifex::jobs
