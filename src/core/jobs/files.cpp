#include "opifex/core/jobs/files.hpp"

#include <algorithm>
#include <map>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "opifex/core/base/glob.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/check/source_check.hpp"
#include "opifex/core/jobs/batch.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

std::vector<Volume> volumes_of(const Image& image) {
  std::vector<Volume> volumes = read_volumes(image);
  const bool rom = std::holds_alternative<RomContent>(image.content);
  if (volumes.empty())
    throw Error(
        {.code = "no_file_system",
         .what =
             rom ? "this is a ROM: there are no files in it" : "there is no file system in this image that can be read",
         .file = image.path.string(),
         .found = image.complete || image.warnings.empty() ? describe(image.content) : image.warnings.front().message,
         .hint = "<job identify> says what it is"});
  return volumes;
}

bool any_damage(const std::vector<Volume>& volumes) {
  return std::any_of(volumes.begin(), volumes.end(), [](const Volume& v) { return v.damaged(); });
}

/// Something with files in it: an image, or an archive itself.
struct Contents {
  Image image;
  std::vector<Volume> volumes;
};

Contents open_image_files(const Input& input) {
  Contents contents{open_source(input), {}};
  contents.volumes = volumes_of(contents.image);
  return contents;
}

/// What the words stand for: archives themselves, unless one of their images is picked, and images.
class Holders {
 public:
  Holders(const std::vector<std::string>& words, const ReadRules& rules, Wanted wanted, JobContext& context)
      : several_(words.size() > 1) {
    for (const std::string& word : words) {
      ArchivePtr archive;
      if (!fs::is_directory(word) && rules.pick.empty()) archive = open_archive(word, rules.spool_folder);
      // One file that is packed is what it is; a floppy is called so as often as not.
      if (archive && is_packed_image(*archive, rules)) archive = nullptr;
      if (archive) {
        files_.add(archive->volumes());
        holders_.push_back({std::move(archive), {{word, {}}, word}});
      } else if (several_ || fs::is_directory(word)) {
        add(find_sources({word}, rules, wanted, context));
      } else {
        const Inputs inputs = find_inputs(word, rules.opening, rules.pick, rules.spool_folder);
        if (inputs.archive) files_.add(inputs.archive->volumes());
        if (inputs.images.size() != 1) open_one(word, rules, files_);  // says that there are several
        holders_.push_back({nullptr, {inputs.images.front(), word}});
      }
    }
  }

  static bool is_packed_image(const Archive& archive, const ReadRules& rules) {
    if (!archive.is_stream()) return false;
    try {
      const Inputs inputs = find_inputs(archive.volumes().front(), rules.opening, {}, rules.spool_folder);
      if (inputs.images.size() != 1) return false;
      const Image image = open_source(inputs.images.front());
      return std::holds_alternative<BlockContent>(image.content) && !std::get<BlockContent>(image.content).is_disc();
    } catch (const Error& e) {
      if (ends_all(e)) throw;
      return false;  // what is wrong with it is told when it is listed
    }
  }

  /// A folder was searched, or there are several words: one failure is not the end.
  bool several() const { return several_; }
  std::size_t count() const { return holders_.size(); }
  const std::string& name(std::size_t i) const { return holders_[i].source.name; }
  const std::vector<LeftOut>& left_out() const { return left_out_; }
  const InputFiles& files() const { return files_; }
  Contents open(std::size_t i) const {
    const Holder& holder = holders_[i];
    if (!holder.archive) return open_image_files(holder.source.input);
    Contents contents;
    contents.image.path = holder.source.name;
    contents.volumes.push_back(archive_volume(*holder.archive));
    return contents;
  }

 private:
  struct Holder {
    ArchivePtr archive;  // null: the source is an image
    Source source;
  };

  void add(Sources sources) {
    several_ = several_ || sources.searched;
    files_.add(sources.files);
    for (Source& source : sources.images) {
      const bool known = std::any_of(holders_.begin(), holders_.end(), [&](const Holder& h) {
        return !h.archive && h.source.input.path == source.input.path &&
               h.source.input.options.pick == source.input.options.pick;
      });
      if (!known) holders_.push_back({nullptr, std::move(source)});
    }
    for (LeftOut& left : sources.left_out) left_out_.push_back(std::move(left));
  }

  std::vector<Holder> holders_;
  std::vector<LeftOut> left_out_;
  InputFiles files_;
  bool several_ = false;
};

/// Failures of one image of many, so that the others go on.
class Many {
 public:
  Many(const Holders& holders, Listener& listener) : holders_(holders), listener_(listener) {
    for (const LeftOut& left : holders.left_out())
      if (left.failed) failed(Error(left.why));
  }
  template <typename Do>
  void each(const Do& action) {
    for (std::size_t i = 0; i < holders_.count(); ++i) {
      try {
        action(i);
      } catch (const Error& e) {
        if (!holders_.several() || ends_all(e)) throw;
        failed(e);
      }
    }
  }
  void failed(const Error& e) {
    outcome.failures.push_back(e.details);
    listener_.failed(e);
  }
  Outcome outcome = {};

 private:
  const Holders& holders_;
  Listener& listener_;
};

}  // namespace

namespace {

bool is_image_here(const std::string& word, const ReadRules& rules) {
  std::error_code ignored;
  if (!fs::exists(word, ignored)) return false;
  if (fs::is_directory(word, ignored)) return true;
  try {
    if (open_archive(word, rules.spool_folder)) return true;
    probe_format(word);
    return true;
  } catch (const Error& e) {
    if (ends_all(e)) throw;
    return false;
  }
}

bool is_path_in(const std::string& image, const std::string& word, const ReadRules& rules) {
  Progress progress;
  JobContext context{progress};
  try {
    const Holders holders({image}, rules, Wanted::all, context);
    for (std::size_t i = 0; i < holders.count(); ++i)
      for (const Volume& volume : holders.open(i).volumes)
        for (const VolumeEntry& e : volume.entries)
          if (path_fits(word, e.path)) return true;
  } catch (const Error& e) {
    if (ends_all(e)) throw;  // anything else is told when it is opened in its turn
  }
  return false;
}

/// Images come first. What is a path in the first of them is meant so, whatever lies here under that name.
struct Words {
  std::vector<std::string> images, paths;
};
Words split_words(const std::vector<std::string>& words, const ReadRules& rules) {
  Words split{{words.front()}, {}};
  for (std::size_t i = 1; i < words.size(); ++i) {
    const bool image =
        split.paths.empty() && is_image_here(words[i], rules) && !is_path_in(words.front(), words[i], rules);
    (image ? split.images : split.paths).push_back(words[i]);
  }
  return split;
}

}  // namespace

namespace {

/// Games of a folder by their code.
std::map<std::string, std::string> games_in(const fs::path& folder, const ReadRules& rules, JobContext& context) {
  std::map<std::string, std::string> games;
  const Sources sources = find_sources({folder.string()}, rules, Wanted::all, context);
  for (const Source& source : sources.images) {
    try {
      const std::string serial = identify_platform(open_source(source.input)).serial;
      if (!serial.empty()) games.try_emplace(plain_code(serial), source.name);
    } catch (const Error& e) {
      if (ends_all(e)) throw;
    }
  }
  return games;
}

}  // namespace

std::string plain_code(std::string_view code) {
  std::string plain;
  for (const char c : code)
    if (std::isalnum(static_cast<unsigned char>(c)) != 0) plain += c;
  return to_upper_ascii(plain);
}

FilesJob FilesJob::of(const std::vector<std::string>& words, const Settings& settings) {
  FilesJob job;
  job.reading = ReadRules::of(settings);
  job.reading.opening.allow_missing = true;
  job.games = settings.text(kGames);
  Words split = split_words(words, job.reading);
  if (split.paths.size() > 1)
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "files takes images and at most one path in them",
                 .found = printable(fmt::format("{}", fmt::join(split.paths, ", "))),
                 .hint = "a pattern fits several: '*.BIN', 'DATA/**'"});
  job.inputs = std::move(split.images);
  if (!split.paths.empty()) job.path = split.paths.front();
  return job;
}

Outcome run(const FilesJob& job, Listener& listener, JobContext& context) {
  const Holders holders(job.inputs, job.reading, Wanted::all, context);
  Many many(holders, listener);
  const auto games =
      job.games.empty() ? std::map<std::string, std::string>{} : games_in(job.games, job.reading, context);
  bool any = false;
  const auto refuse_path = [&] {
    throw Error({.fault = Fault::usage,
                 .code = "no_such_path",
                 .what = holders.several() ? "nothing in any of the images fits this path"
                                           : "nothing in the image fits this path",
                 .file = job.inputs.front(),
                 .found = printable(job.path)});
  };
  many.each([&](std::size_t i) {
    const Contents contents = holders.open(i);
    const auto fits = [&](const Volume& v) {
      return std::any_of(v.entries.begin(), v.entries.end(),
                         [&](const VolumeEntry& e) { return path_fits(job.path, e.path); });
    };
    if (!job.path.empty() && std::none_of(contents.volumes.begin(), contents.volumes.end(), fits)) {
      if (holders.several()) return;  // another of them may have it
      refuse_path();
    }
    any = true;
    listener.result(Listed{contents.image, contents.volumes, job.path, games});
    if (any_damage(contents.volumes)) many.outcome.good = false;
  });
  if (!job.path.empty() && !any && many.outcome.failures.empty()) refuse_path();
  return std::move(many.outcome);
}

ExtractFilesJob ExtractFilesJob::of(const std::vector<std::string>& words, const Settings& settings) {
  if (settings.text(kInto).empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "extract needs a folder for the files",
                 .hint = "<into> DIR: the folder is made if it is not there"});
  ExtractFilesJob job{.inputs = {}, .into = settings.text(kInto)};
  job.form2 = settings.choice<Form2As>(kForm2);
  job.saves = settings.choice<SavesAs>(kSavesAs);
  job.even_damaged = settings.flag(kDamaged);
  job.read_back = settings.flag(kReadBack);
  job.reading = ReadRules::of(settings);
  job.writing = WriteRules::of(settings);
  Words split = split_words(words, job.reading);
  job.inputs = std::move(split.images);
  job.paths = std::move(split.paths);
  job.writing.inputs = named_inputs(job.inputs, settings, extract_settings());
  return job;
}

namespace {

/// A disc of 2048-byte blocks has lost what streamed sectors hold beyond them.
void warn_of_form2(const Image& image, const ExtractPlan& plan, Listener& listener) {
  const auto cut =
      std::count_if(plan.items.begin(), plan.items.end(), [&](const ExtractItem& i) { return i.entry->form2; });
  if (cut > 0 && (!image.cd() || image.blocks()))
    listener.message(
        {"form2_cut", fmt::format("{} had sectors of more than 2048 bytes; this image holds only 2048 of each",
                                  plural(static_cast<std::uint64_t>(cut), "streamed file"))});
}

/// What is wrong with the image as far as this extraction is concerned.
std::vector<Finding> damage_of(const Contents& contents, const ExtractPlan& plan, JobContext& context) {
  std::vector<Finding> findings;
  if (contents.image.format)  // an archive's members have their own checksums
    findings = SourceCheck(contents.image, false, context, &contents.volumes).finish();
  for (const Volume& volume : contents.volumes) {
    std::vector<const VolumeEntry*> files;
    for (const ExtractItem& item : plan.items)
      if (!item.is_folder() && item.volume == &volume) files.push_back(item.entry);
    for (Finding& f : bad_sectors_of(contents.image, files, volume, context)) findings.push_back(std::move(f));
  }
  return findings;
}

/// Files in regions that are encrypted are written as they are: of no use to anybody without the key. True if any was.
bool warn_of_ciphertext(const Image& image, const ExtractPlan& plan, Listener& listener) {
  const auto disc = image.blocks() ? read_ps3_disc(*image.blocks()) : std::nullopt;
  if (!disc || !disc->has_encrypted() || identify_platform(image).state != "encrypted") return false;
  const auto hit = std::count_if(plan.items.begin(), plan.items.end(), [&](const ExtractItem& i) {
    return std::any_of(i.entry->extents.begin(), i.entry->extents.end(), [&](const VolumeExtent& x) {
      const std::uint64_t last = x.sector + (x.sectors() > 0 ? x.sectors() - 1 : 0);
      return disc->is_encrypted(x.sector) || disc->is_encrypted(last);
    });
  });
  if (hit == 0) return false;
  listener.message({"encrypted",
                    fmt::format("{} file{} encrypted, and written as {}", hit, hit == 1 ? " is" : "s are",
                                hit == 1 ? "it is" : "they are"),
                    "<key-file> decrypts"});
  return true;
}

/// Files or folders that could not be written whole, or not at all.
bool any_lost(const std::vector<Volume>& volumes) {
  return any_damage(volumes) || std::any_of(volumes.begin(), volumes.end(), [](const Volume& v) {
           return std::any_of(v.entries.begin(), v.entries.end(), [](const VolumeEntry& e) {
             return (e.kind == EntryKind::file && !e.sound) || !e.refused.empty();
           });
         });
}

/// A disk without a file system is listed as what it is; there is nothing to be written of it.
void refuse_unlisted(const Contents& contents) {
  const auto unlisted = [](const Volume& v) { return !v.unlisted.empty(); };
  if (contents.volumes.empty() || !std::all_of(contents.volumes.begin(), contents.volumes.end(), unlisted)) return;
  throw Error({.code = "no_file_system",
               .what = "there are no files in this image",
               .file = contents.image.path.string(),
               .found = contents.volumes.front().unlisted});
}

/// True if nothing was wrong.
bool extract_one(const ExtractFilesJob& job, const Contents& contents, const fs::path& into, const WriteRules& rules,
                 Listener& listener, JobContext& context) {
  const Stopwatch watch;
  bool good = true;
  refuse_unlisted(contents);
  const TargetFacts facts = rules.target(into);
  const ExtractPlan plan =
      plan_extract(contents.image, contents.volumes, {job.paths, into, job.form2, job.saves, job.even_damaged}, facts);
  ExtractedFiles done{.image = contents.image, .plan = plan, .into = into.string()};
  const auto take_damage = [&] {
    if (take_findings(damage_of(contents, plan, context), contents.image, rules, done.warnings)) good = false;
  };
  if (!rules.plan_only) {
    InputFiles inputs = rules.inputs;
    inputs.add(input_paths(contents.image));
    if (rules.strict) take_damage();
    done.items = run_extract(plan, {rules.existing, job.read_back, facts, into, std::move(inputs)}, context);
    done.read_back = job.read_back;
    if (!rules.strict) take_damage();
  }
  done.seconds = watch.seconds();
  warn_of_form2(contents.image, plan, listener);
  listener.result(done);
  if (warn_of_ciphertext(contents.image, plan, listener)) good = false;
  return good && !any_lost(contents.volumes);
}

/// Each image's folder, none of them twice; room for all of their files.
std::vector<fs::path> folders_of(const ExtractFilesJob& job, const Holders& holders, Many& many) {
  std::vector<fs::path> folders(holders.count());
  std::map<std::string, std::string> taken;
  PlannedTotal total(job.writing.target(job.into));
  many.each([&](std::size_t i) {
    const Contents contents = holders.open(i);
    const fs::path folder = fs::path(job.into) / output_stem(contents.image);
    const auto [at, is_new] = taken.try_emplace(fold_case(folder.string()), holders.name(i));
    if (!is_new)
      throw Error({.fault = Fault::usage,
                   .code = "same_output",
                   .what = "the files of two images would go into one folder",
                   .file = folder.string(),
                   .found = at->second + " + " + holders.name(i),
                   .expected = "a folder for each",
                   .hint = "extract them one after the other, or rename one: <job rename>"});
    const ExtractPlan plan =
        plan_extract(contents.image, contents.volumes, {job.paths, folder, job.form2, job.saves, job.even_damaged},
                     job.writing.target(job.into));
    for (const ExtractItem& item : plan.items)
      if (!item.is_folder()) total.add({item.target, item.size_bytes});
    folders[i] = folder;
  });
  total.check();
  return folders;
}

}  // namespace

Outcome run(const ExtractFilesJob& job, Listener& listener, JobContext& context) {
  const Holders holders(job.inputs, job.reading, Wanted::whole, context);
  WriteRules rules = job.writing;
  rules.inputs.add(holders.files());
  Many many(holders, listener);
  std::vector<fs::path> folders(holders.count(), job.into);
  if (holders.several()) folders = folders_of(job, holders, many);
  many.each([&](std::size_t i) {
    if (folders[i].empty()) return;  // told already
    if (!extract_one(job, holders.open(i), folders[i], rules, listener, context)) many.outcome.good = false;
  });
  return std::move(many.outcome);
}

}  // namespace opifex::jobs
