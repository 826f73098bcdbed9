/// One good image of several imperfect dumps.
#pragma once

#include "opifex/core/check/rescue.hpp"
#include "opifex/core/jobs/writing.hpp"

namespace opifex::jobs {

struct RescueJob {
  std::vector<std::string> inputs;  ///< dumps of one pressing; a folder stands for all of its images
  std::string out;
  const Format* target = nullptr;  ///< null: that of the first dump
  ReadRules reading = {};
  WriteRules writing = {};
  bool record = false;  ///< the listener is going to write NAME.rescue.txt and NAME.rescue.json beside the image
  static RescueJob of(std::vector<std::string> inputs, const Settings& settings);
};

struct Rescued {
  const Written& written;
  const RescueResult& rescue;
  std::vector<std::string> inputs;
  std::filesystem::path record_text = {}, record_json = {};  ///< to be written; empty: not wanted
  WriteRules rules = {};
};
Outcome run(const RescueJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
