/// Save memory: checked, compared, converted, every version kept, and written back to its cartridge.
#pragma once

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/formats/rom/save.hpp"
#include "opifex/core/jobs/job.hpp"
#include "opifex/core/jobs/save_history.hpp"

namespace opifex::jobs {

enum class SaveAction { check, compare, store, history, restore, convert, write };

struct SaveJob {
  static constexpr bool kChangesInPlace = true;
  SaveAction action = SaveAction::check;
  std::vector<std::string> words;  ///< behind the action
  std::filesystem::path game = {}, history = {}, out = {};
  std::optional<std::size_t> version = {};  ///< of restore: its number from 1; nothing: the newest that differs
  rom::SaveForm form = {};
  const rom::Machine* machine = nullptr;         ///< of write: the user's word; null: by the header
  std::optional<std::uint64_t> save_bytes = {};  ///< the same
  bool plan_only = false, replace = false, accepted = false;
  static SaveJob of(const std::vector<std::string>& words, const Settings& settings);
};

/// What was found out, or done.
struct SaveTold {
  SaveAction action = SaveAction::check;
  std::filesystem::path path, other;
  std::optional<rom::SaveFacts> facts = {};
  std::filesystem::path game = {};
  std::vector<rom::SaveRange> ranges = {};  ///< of compare and write: what differs
  Bytes here = {}, there = {};              ///< the two sides of it
  std::vector<SaveVersion> versions = {};
  std::optional<SaveVersion> stored = {};  ///< kept before anything was changed
  std::string sha1 = {};                   ///< of what was written
  std::string state = {};                  ///< of write: "unchanged", "planned", "written", "failed"
  std::string trouble = {};
  std::string holds = {};  ///< of a write that failed: "the old save", "the new save", "neither", "unknown"
  std::string cartridge = {};
  std::vector<Warning> warnings = {};
};
Outcome run(const SaveJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
