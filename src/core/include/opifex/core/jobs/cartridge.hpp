/// From a cartridge in a reader to its files.
#pragma once

#include "opifex/core/dump/cartridge.hpp"
#include "opifex/core/jobs/job.hpp"

namespace opifex::jobs {

struct KnownAnswer;

struct DumpCartridgeJob {
  std::string source;  ///< a serial port, or "sim:FILE.toml"
  dump::CartridgeRequest request;
  std::vector<std::string> against = {};  ///< known lists; empty: nobody asks
  std::filesystem::path cache = {};       ///< for lists that were read; empty: none
  bool plan_only = false;
  bool record = false;  ///< the listener is going to write NAME.dump.txt and NAME.dump.json
  /// Error (usage) if there is no place for the files.
  static DumpCartridgeJob of(const std::string& source, const Settings& settings);
};

struct DumpedCartridge {
  std::string source;
  const dump::CartridgePlan& plan;
  const dump::CartridgeResult* result = nullptr;  ///< null: only planned, or about to begin
  bool begins = false;                            ///< it is about to begin
  std::filesystem::path record_text = {}, record_json = {};
  Existing existing = Existing::keep;
  const InputFiles& inputs;
  const std::vector<KnownAnswer>* known = nullptr;  ///< what the lists say of its ROM; null: nobody asked
};
Outcome run(const DumpCartridgeJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
