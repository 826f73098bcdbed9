/// Results as JSON. The keys are documented in docs/json.md; those that exist stay.
#pragma once

#include <functional>
#include <iosfwd>
#include <nlohmann/json.hpp>
#include <optional>

#include "opifex/core/check/check.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/jobs/writing.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/core/stage/naming.hpp"

namespace opifex::report {

/// Keeps the order in which keys were written, so that a person can read it too.
using Json = nlohmann::ordered_json;

Json to_json(const ErrorDetails& error, int exit_code);
Json to_json(const std::vector<Warning>& warnings);
Json to_json(const std::vector<Loss>& losses);
Json identify_json(const Image& image, const Identity& id);
Json check_json(const Image& image, const CheckResult& result);
Json rename_json(const RenamePlan& plan);

Json written_json(const jobs::Written& job);

/// The document as text: two blanks of indentation, bytes that are no UTF-8 replaced.
std::string dump(const Json& document);

/// A result with a list of any length: the list's items are made while they are printed, so that of a hundred thousand
/// files none is in memory as JSON but the one that is printed.
struct LongResult {
  Json result;                                ///< whole but for the list, whose key is there with an empty array
  std::string key;                            ///< of the list
  std::function<std::optional<Json>()> next;  ///< its next item; nothing at the end
};

/// Prints the document of a command as its results come.
class DocumentPrinter {
 public:
  DocumentPrinter(std::ostream& out, std::string command) : out_(out), command_(std::move(command)) {}
  void add(const LongResult& result);
  void add(const Json& result) { add(LongResult{result, "", {}}); }
  /// Exactly once, as the last. `summary`: of a job over many inputs; null: there is none. `lists`: what known
  /// lists know of all of them; null: nobody asked. `report`: only of the file in the folder of one.
  void finish(const Json& errors, const Json& summary = nullptr, const Json& lists = nullptr,
              const Json& report = nullptr);

 private:
  void begin();
  std::ostream& out_;
  std::string command_;
  std::size_t results_ = 0;
};

}  // namespace opifex::report
