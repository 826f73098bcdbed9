#include "opifex/core/jobs/save.hpp"

#include <algorithm>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/cartridge.hpp"
#include "opifex/core/dump/reader_source.hpp"
#include "opifex/core/formats/rom/convert.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/jobs/settings.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

Bytes read_save_file(const fs::path& path) {
  constexpr std::uint64_t kMost = 16 << 20;
  const SourcePtr file = open_file(path);
  if (file->size() > kMost)
    throw Error({.code = "too_large",
                 .what = "this is larger than any save",
                 .file = path.string(),
                 .found = human_size(file->size())});
  return read_up_to(*file, 0, static_cast<std::size_t>(file->size()));
}

namespace {

struct ActionFacts {
  std::string_view name;
  SaveAction action;
  std::size_t words;
  const char* usage;
};
constexpr ActionFacts kActions[] = {{"check", SaveAction::check, 1, "SAVE [<game> ROM]"},
                                    {"compare", SaveAction::compare, 2, "SAVE OTHER"},
                                    {"store", SaveAction::store, 1, "SAVE"},
                                    {"history", SaveAction::history, 1, "SAVE"},
                                    {"restore", SaveAction::restore, 1, "SAVE [<version> N]"},
                                    {"convert", SaveAction::convert, 1, "SAVE <out> NEW"},
                                    {"write", SaveAction::write, 2, "SOURCE SAVE"}};

/// The game beside the save, by the name they share.
fs::path game_beside(const fs::path& save) {
  std::error_code error;
  for (const Format* format : formats()) {
    if (!format->holds.roms) continue;
    for (const std::string_view extension : format->extensions) {
      fs::path game = fs::path(save).replace_extension(extension);
      if (game != save && fs::is_regular_file(game, error)) return game;
    }
  }
  return {};
}

struct Game {
  const rom::Machine* machine = nullptr;
  rom::Header header;
};
Game read_game(const fs::path& game) {
  const Image image = open_image(game);
  const auto* content = std::get_if<RomContent>(&image.content);
  const rom::Machine* machine = content ? rom::find_machine(content->system) : nullptr;
  if (!machine) throw Error({.code = "no_rom", .what = "this is no ROM of a known console", .file = game.string()});
  const rom::Container container = rom::container_of(*content->bytes, machine);
  return {machine, rom::read_header(*machine, rom::read_rom(*content->bytes, container))};
}

Outcome check(const SaveJob& job, Listener& listener) {
  SaveTold told{.action = job.action, .path = job.words[0], .other = {}};
  const Bytes save = read_save_file(told.path);
  told.game = job.game.empty() ? game_beside(told.path) : job.game;
  const std::string extension = to_upper_ascii(told.path.extension().string());
  std::optional<Game> game;
  if (!told.game.empty()) game = read_game(told.game);
  const rom::Machine* machine = job.machine ? job.machine : game ? game->machine : rom::machine_of_save(extension);
  told.facts = rom::examine_save(save, game ? &game->header : nullptr, machine, extension);
  told.sha1 = digest_of("sha1", save);
  listener.result(told);
  return {.good = told.facts->problems.empty()};
}

Outcome compare(const SaveJob& job, Listener& listener) {
  SaveTold told{.action = job.action, .path = job.words[0], .other = job.words[1]};
  told.here = read_save_file(told.path);
  told.there = read_save_file(told.other);
  told.ranges = rom::differing_ranges(told.here, told.there);
  listener.result(told);
  return {.good = told.ranges.empty()};
}

Outcome store(const SaveJob& job, Listener& listener) {
  SaveTold told{.action = job.action, .path = job.words[0], .other = {}};
  told.stored = SaveHistory(told.path, job.history).store(read_save_file(told.path), told.path.filename().string());
  listener.result(told);
  return {};
}

Outcome history(const SaveJob& job, Listener& listener) {
  SaveTold told{.action = job.action, .path = job.words[0], .other = {}};
  told.versions = SaveHistory(told.path, job.history).versions();
  listener.result(told);
  return {.good =
              std::all_of(told.versions.begin(), told.versions.end(), [](const SaveVersion& v) { return v.sound; })};
}

const SaveVersion& chosen_version(const SaveJob& job, const std::vector<SaveVersion>& all,
                                  const std::string& sha1_now) {
  const auto refuse = [&](std::string what) {
    throw Error({.code = "no_version",
                 .what = std::move(what),
                 .file = job.words[0],
                 .found = plural(all.size(), "version"),
                 .hint = "<job save> history lists them"});
  };
  if (job.version) {
    if (*job.version < 1 || *job.version > all.size()) refuse("there is no version of this number");
    if (!all[*job.version - 1].sound) refuse("this version is damaged or gone");
    return all[*job.version - 1];
  }
  for (auto v = all.rbegin(); v != all.rend(); ++v)
    if (v->sound && v->sha1 != sha1_now) return *v;
  refuse("there is no kept version that differs from the save");
  return all.front();
}

Outcome restore(const SaveJob& job, Listener& listener) {
  SaveTold told{.action = job.action, .path = job.words[0], .other = {}};
  const SaveHistory kept(told.path, job.history);
  const std::vector<SaveVersion> all = kept.versions();
  const bool there = fs::exists(told.path);
  const Bytes now = there ? read_save_file(told.path) : Bytes();
  const SaveVersion version = chosen_version(job, all, there ? digest_of("sha1", now) : "");
  const Bytes bytes = read_save_file(version.file);
  told.other = version.file;
  told.here = now;
  told.there = bytes;
  told.ranges = rom::differing_ranges(now, bytes);
  told.state = job.plan_only ? "planned" : "written";
  told.sha1 = version.sha1;
  if (!job.plan_only) {
    if (there) told.stored = kept.store(now, "before it was restored");
    write_whole_file(told.path, as_text(bytes), Existing::replace);
  }
  listener.result(told);
  return {};
}

Outcome convert(const SaveJob& job, Listener& listener) {
  SaveTold told{.action = job.action, .path = job.words[0], .other = job.out};
  const Bytes before = read_save_file(told.path);
  const Bytes after = rom::convert_save(before, job.form);
  told.here = before;
  told.there = after;
  told.sha1 = digest_of("sha1", after);
  told.state = job.plan_only ? "planned" : "written";
  refuse_existing({job.out}, InputFiles({told.path}), Existing::keep);
  if (!job.plan_only) write_whole_file(job.out, as_text(after), Existing::keep, InputFiles({told.path}));
  listener.result(told);
  return {};
}

/// Switched off at the end, whatever happens; and a simulated cartridge keeps what it holds.
class Session {
 public:
  Session(dump::ReaderSource& source, dump::CartridgeDump& dump) : source_(source), dump_(dump) {}
  ~Session() { dump_.leave(); }
  Session(const Session&) = delete;
  Session& operator=(const Session&) = delete;
  void keep() { source_.keep_save(); }

 private:
  dump::ReaderSource& source_;
  dump::CartridgeDump& dump_;
};

std::string held_now(const std::optional<Bytes>& now, const Bytes& old, const Bytes& wanted) {
  if (!now) return "unknown";
  return *now == old ? "the old save" : *now == wanted ? "the new save" : "neither";
}

void refuse_other_size(const fs::path& save, std::uint64_t have, std::uint64_t wanted) {
  if (have == wanted) return;
  throw Error({.code = "save_size",
               .what = "the save has another size than the cartridge keeps",
               .file = save.string(),
               .found = bytes_text(have),
               .expected = bytes_text(wanted),
               .hint = "<job save> convert makes it fit; <save-size> if the header is wrong"});
}

Outcome write(const SaveJob& job, Listener& listener, JobContext& context) {
  SaveTold told{.action = job.action, .path = job.words[1], .other = job.words[0]};
  const Bytes wanted = read_save_file(told.path);
  dump::ReaderSource source(job.words[0]);
  dump::CartridgeRequest request;
  request.machine = job.machine;
  request.save_bytes = job.save_bytes;
  request.part = dump::CartridgePart::save;
  request.out = told.path;
  dump::CartridgeDump cartridge(std::move(request), source.link(), context.progress.stop);
  Session session(source, cartridge);
  const dump::CartridgePlan& plan = cartridge.plan();
  told.cartridge = fmt::format("{} {}", plan.machine->name, plan.header.title);
  if (!plan.reader.writes_saves)
    throw Error({.code = "cannot_write", .what = "this reader cannot write saves", .file = job.words[0]});
  refuse_other_size(told.path, wanted.size(), plan.save_bytes);
  const Bytes old = cartridge.read_save_for_sure();
  told.here = old;
  told.there = wanted;
  told.ranges = rom::differing_ranges(old, wanted);
  told.sha1 = digest_of("sha1", wanted);
  if (told.ranges.empty()) {
    told.state = "unchanged";
    listener.result(told);
    return {};
  }
  told.state = "planned";
  if (job.plan_only || !job.accepted) listener.result(told);
  if (job.plan_only) return {};
  if (!job.accepted)
    throw Error({.fault = Fault::needs_word,
                 .code = "overwrite_save",
                 .what = "the cartridge's save would be written over",
                 .file = job.words[0],
                 .found = fmt::format("{} in {}", plural(told.ranges.size(), "range"), told.cartridge),
                 .hint = "add <accept> overwrite-save if that is meant: the old one is kept first"});
  told.stored = SaveHistory(told.path, job.history)
                    .store(old, fmt::format("cartridge {}, before it was written", told.cartridge));
  const auto written = cartridge.write_save(wanted);
  session.keep();
  told.state = written.right ? "written" : "failed";
  told.trouble = written.trouble;
  if (!written.right) told.holds = held_now(written.now, old, wanted);
  listener.result(told);
  if (written.right) return {};
  throw Error({.fault = Fault::device,
               .code = "save_not_written",
               .what = fmt::format("the save was not written as it should be: the cartridge now holds {}", told.holds),
               .file = job.words[0],
               .found = printable(told.trouble),
               .hint = fmt::format("the old one is safe in {}; clean the contacts and write again",
                                   told.stored->file.string())});
}

}  // namespace

SaveJob SaveJob::of(const std::vector<std::string>& words, const Settings& settings) {
  const auto action = std::find_if(std::begin(kActions), std::end(kActions),
                                   [&](const ActionFacts& a) { return a.name == words.front(); });
  if (action == std::end(kActions)) {
    std::vector<std::string> known;
    for (const ActionFacts& a : kActions) known.emplace_back(a.name);
    unknown_word("action of save", words.front(), known);
  }
  if (words.size() != action->words + 1)
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = fmt::format("save {} takes other words", action->name),
                 .hint = fmt::format("<job save> {} {}", action->name, action->usage)});
  SaveJob job{.action = action->action, .words = {words.begin() + 1, words.end()}};
  job.game = settings.text(kGame);
  job.history = settings.text(kHistory);
  job.out = settings.text(kOut);
  if (job.action == SaveAction::convert && job.out.empty())
    throw Error(
        {.fault = Fault::usage, .code = "usage", .what = "a path for the new save is missing", .hint = "<out> PATH"});
  if (const auto n = settings.number(kVersion)) job.version = static_cast<std::size_t>(*n);
  job.form.size_bytes = settings.bytes(kSaveSize);
  job.form.fill = settings.text(kFill) == "00" ? 0 : 0xFF;
  job.form.swap_bytes = static_cast<unsigned>(settings.has(kSwap) ? std::stoul(settings.text(kSwap)) : 0);
  for (const rom::SaveLane lane : {rom::SaveLane::alone, rom::SaveLane::odd, rom::SaveLane::even})
    if (settings.text(kLane) == rom::to_string(lane)) job.form.lane = lane;
  job.form.drop_clock = settings.flag(kDropClock);
  job.save_bytes = settings.bytes(kSaveSize);
  if (settings.has(rom::kSystem)) job.machine = rom::find_machine(settings.text(rom::kSystem));
  job.plan_only = settings.flag(kPlan);
  const auto accepted = settings.list(kAcceptSave);
  job.accepted = std::find(accepted.begin(), accepted.end(), "overwrite-save") != accepted.end();
  return job;
}

Outcome run(const SaveJob& job, Listener& listener, JobContext& context) {
  switch (job.action) {
    case SaveAction::check:
      return check(job, listener);
    case SaveAction::compare:
      return compare(job, listener);
    case SaveAction::store:
      return store(job, listener);
    case SaveAction::history:
      return history(job, listener);
    case SaveAction::restore:
      return restore(job, listener);
    case SaveAction::convert:
      return convert(job, listener);
    case SaveAction::write:
      break;
  }
  return write(job, listener, context);
}

}  // namespace opifex::jobs
