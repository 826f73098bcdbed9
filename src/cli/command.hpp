/// What the commands share: options, messages, progress, exit codes.
#pragma once

#include <boost/program_options.hpp>
#include <functional>
#include <set>
#include <string>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/check/prove.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/image/inputs.hpp"
#include "opifex/core/io/input_files.hpp"
#include "opifex/report/json.hpp"

namespace opifex::cli {

namespace po = boost::program_options;

/// docs/errors.md
enum Exit : int { kDone = 0, kBadNews = 1, kUsage = 2, kRefused = 3, kNeedsWord = 4, kDevice = 5, kInterrupted = 130 };
int exit_code(Fault fault);

/// A command that is running: its options, and how it speaks.
class Session {
 public:
  Session(std::string command, po::variables_map options, std::stop_token stop);
  ~Session();
  Session(const Session&) = delete;
  Session& operator=(const Session&) = delete;

  const po::variables_map& options() const { return options_; }
  bool flag(const char* name) const { return options_.count(name) != 0 && options_[name].as<bool>(); }
  std::string text(const char* name) const { return options_.count(name) != 0 ? options_[name].as<std::string>() : ""; }
  std::vector<std::string> list(const char* name) const;
  Work& work() { return work_; }

  /// Every file the command line names but as an output, and those noted since: none of them is ever written. Folders
  /// stand for all that is in them.
  InputFiles inputs() const;
  void note_inputs(const std::vector<std::filesystem::path>& files) const { noted_.add(files); }

  /// A result: in `json` for --json, else as text on stdout.
  void result(const report::Json& json, const std::string& text);
  /// The same for lists of any length: only the form that is wanted is made.
  template <typename MakeJson, typename MakeText>
  void result_of(const MakeJson& make_json, const MakeText& make_text) {
    if (!flag("json")) return result(report::Json(), make_text());
    pause_progress();
    document_.add(make_json());
  }
  /// Part of the answer that only a person needs; on stderr, not under --quiet or --json.
  void message(const std::string& text);
  /// Reports an Error of one input and remembers its exit code; other inputs go on.
  void failed(const Error& error);
  void bad_news() { exit_ = exit_ == kDone ? kBadNews : exit_; }
  /// Prints the JSON document if asked for; the exit code of the command.
  int finish();

  /// Wipes the progress line until the next draw.
  void pause_progress();

 private:
  struct Drawing;
  std::string command_;
  po::variables_map options_;
  Progress progress_;
  Work work_;
  report::DocumentPrinter document_;
  report::Json errors_ = report::Json::array();
  mutable InputFiles noted_;
  int exit_ = kDone;
  bool separate_ = false;
  std::unique_ptr<Drawing> drawing_;
};

/// How many words a command takes beside its options.
struct WordCount {
  std::size_t least, most;
};
inline constexpr std::size_t kMany = SIZE_MAX;
inline constexpr WordCount kNoWords{0, 0}, kOneWord{1, 1}, kTwoWords{2, 2}, kSomeWords{1, kMany}, kAnyWords{0, kMany};

struct Command {
  const char* name;
  const char* arguments;  ///< "INPUT --to FORMAT"
  const char* summary;    ///< one line
  const char* details;    ///< for help; may be empty
  const char* examples;
  void (*declare)(po::options_description& options);  ///< its own options; may be null
  WordCount words;
  void (*run)(Session& session);
};
const std::vector<const Command*>& commands();
const Command* find_command(const std::string& name);

/// Runs one command line, without the program's name. Never throws.
int dispatch(const std::vector<std::string>& words, std::stop_token stop);

/// Option groups several commands have.
void declare_write_options(po::options_description& options);
void declare_read_options(po::options_description& options);
void declare_container_options(po::options_description& options);
OpenOptions open_options(const Session& session);
/// The archive a word of the command line is; null if it is none.
ArchivePtr archive_of(const Session& session, const std::string& word);
/// The images of a word: one, or those of an archive that --pick chooses.
Inputs inputs_of(const Session& session, const std::string& word, const OpenOptions& options);
/// Opens it, and decrypts it if its keys are there.
Image open_input(const Input& input);
/// Error (usage, "several_images") if an archive holds more than one.
Image one_image(const Session& session, const std::string& word, const OpenOptions& options);
WriteJob write_job(const Session& session, const std::filesystem::path& folder);
/// Comma-separated words.
std::vector<std::string> comma_list(const std::string& text);
/// The loss kinds of --accept. Error (usage) for a word that is none.
std::set<std::string> accepted_losses(const Session& session);
/// A format that can be written. Error (usage) with the nearest right word.
const Format& writable_format(const std::string& id);
/// Error (usage) with the nearest right word.
[[noreturn]] void unknown_word(const std::string& what, const std::string& word, const std::vector<std::string>& known);

/// A conversion from options to result, shared by convert, merge and split.
struct ConversionJob {
  const Format* target = nullptr;
  std::filesystem::path out;
  WriteOptions options = {};
  std::vector<Loss> losses = {};  ///< that the image as it is given has had already
  std::uint64_t limit_bytes = 0;  ///< of each file that is written; 0: none
};
void run_conversion(Session& session, const Image& image, const ConversionJob& job);

/// Damage of a source, found while it was read: told as warnings, exit code 1; with --strict an Error
/// ("source_damaged").
void take_findings(Session& session, const std::vector<Finding>& findings, const Image& image,
                   std::vector<Warning>& warnings);

/// A plan that is made already, shown or carried out. `becomes`: what the source turns into, in words.
/// Looks at what was written, before it has its name, and says what was compared; `prove` as the user wishes.
using Prover = std::function<Proof(const FileSpacePtr& staged, const std::vector<WrittenFile>& written, bool prove)>;
void run_plan(Session& session, const Image& source, std::string_view becomes, const Conversion& conversion,
              const Prover& prover);

/// Where the output goes: `out` may be a folder for sets, or any existing folder.
std::filesystem::path leading_output(const Image& image, const Format& target, const std::string& out);

}  // namespace opifex::cli
