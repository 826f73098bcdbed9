// Dumps and joins of random discs in random drives, against an oracle that knows the disc.
//
// usage: dump_campaign SECONDS [SEED | --from SEED]
//
// Fails if bytes are called good, confirmed, repaired or combined that are not what the disc holds, if a layout is
// wrong without a word, if a sector that no defect touches is lost, or if a dump ends in an internal fault. Every trial
// has a seed of its own, which is printed when it fails: SEED runs that one again. DUMP_LOG names a file for the
// commands of its drives.
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <ctime>
#include <fstream>
#include <thread>

#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>

#include "opifex/core/check/rescue.hpp"
#include "opifex/core/dump/dump.hpp"

#include "random_disc.hpp"

namespace opifex::campaign {
namespace {

using namespace dump;
using cd::Lba;
namespace fs = std::filesystem;

struct Counts {
  std::uint64_t dumps = 0, refused = 0, resumed = 0, stopped = 0, killed = 0, left = 0, joins = 0, offsets = 0;
  std::uint64_t sectors = 0, claimed = 0;
  std::map<std::string, std::uint64_t> missed = {};   ///< sectors that nothing is wrong with, and that were not proved
  std::map<std::string, std::uint64_t> reasons = {};  ///< for stopping or refusing
};

struct Lie : std::runtime_error {
  using std::runtime_error::runtime_error;
};

bool is_claim(SectorState s) {
  switch (s) {
    case SectorState::good:
    case SectorState::retried:
    case SectorState::repaired:
    case SectorState::combined:
    case SectorState::audio_confirmed:
      return true;
    default:
      return false;
  }
}

class Trial {
 public:
  Trial(std::uint64_t seed, Counts& counts, bool talks) : random_(seed), counts_(counts), talks_(talks) {}

  void run() {
    Scenario scenario = random_scenario(random_, folder_.path());
    std::optional<fs::path> first = interrupted() ? dump_in_pieces(scenario) : dump_once(scenario, "a");
    if (!first || random_.below(100) >= 55) return;
    const Scenario other = another_drive(scenario, random_);
    if (const auto second = dump_once(other, "b")) join({scenario, other}, {*first, *second});
  }

 private:
  bool interrupted() { return random_.below(100) < 25; }

  DumpRequest request_of(const Scenario& s, const std::string& name) {
    DumpRequest request;
    request.source = "/dev/null";  // a device by its looks; what answers is the transport
    request.out = folder_ / (name + "/x" + (s.is_cd() ? ".cue" : ".iso"));
    if (s.offset_told) request.offset = s.offset;
    request.subchannel = s.subchannel;
    request.passes = s.passes;
    request.save_every_ms = 5;
    request.hashes = {};
    return request;
  }

  static int shift_of(const Scenario& s) {
    return s.description.drive.read_offset + s.description.discs.front().write_offset - s.offset;
  }

  /// The lead of the output; nothing if it was refused or stopped.
  std::optional<fs::path> attempt(const Scenario& s, const std::string& name, bool& stopped) {
    SimDescription description = s.description;
    if (const char* log = std::getenv("DUMP_LOG"); log && talks_) description.log = log;
    const auto transport = simulate_drive(std::move(description), "sim");
    if (talks_) std::printf("dump %s\n%s", name.c_str(), campaign::describe(s).c_str());
    ++counts_.dumps;
    try {
      Dump job(request_of(s, name), *transport);
      Progress progress;
      JobContext context{progress, 1};
      const DumpResult result = job.run(context);
      verify(s, job.plan(), result);
      if (result.verdict != DumpVerdict::intact) maps_[job.plan().lead] = result.map;
      if (talks_) {
        std::printf("  %s\n", std::string(to_string(result.verdict)).c_str());
        for (const StateRange& r : result.map.map.ranges())
          std::printf("  %d to %d %s\n", r.first, r.end, std::string(to_string(r.state)).c_str());
        for (const cd::Track& t : job.plan().layout.tracks)
          std::printf("  track %d from %d, %d to %d\n", t.number, t.pregap_lba, t.start_lba, t.end_lba);
      }
      return job.plan().lead;
    } catch (const Error& e) {
      if (e.details.code == "internal" || e.details.fault == Fault::usage) throw;
      stopped = true;
      if (talks_) std::printf("  %s\n", e.what());
      ++counts_.refused;
      ++counts_.reasons[e.details.code];
      reason_ = e.details.code;
      return std::nullopt;
    }
  }
  std::optional<fs::path> dump_once(const Scenario& s, const std::string& name) {
    bool stopped = false;
    return attempt(s, name, stopped);
  }

  /// The dump in a process of its own, killed at some moment: nothing saves its state. False if it was done before.
  bool dump_killed(const Scenario& s) {
    const auto patience = std::chrono::microseconds(random_.below(60'000));
    const pid_t child = ::fork();
    if (child < 0) throw std::runtime_error("fork");
    if (child == 0) {
      try {
        const auto transport = simulate_drive(s.description, "sim");
        Dump job(request_of(s, "a"), *transport);
        Progress progress;
        JobContext context{progress, 1};
        job.run(context);
      } catch (const std::exception&) {  // what it left is looked at
      }
      ::_exit(0);
    }
    std::this_thread::sleep_for(patience);
    ::kill(child, SIGKILL);
    int status = 0;
    ::waitpid(child, &status, 0);
    ++counts_.dumps;
    if (talks_)
      std::printf("dump a, killed after %lld us\n%s", static_cast<long long>(patience.count()),
                  campaign::describe(s).c_str());
    return WIFSIGNALED(status);
  }

  /// A drive that dies, is emptied or gets another disc on the way, or a program that is killed; then the same again,
  /// or something else.
  std::optional<fs::path> dump_in_pieces(Scenario& s) {
    if (random_.below(3) == 0) {
      if (!dump_killed(s) || fs::exists(request_of(s, "a").out)) return std::nullopt;
      ++counts_.killed;
      const Scenario killed = s;
      const auto done = go_on(s);
      // The journal of the one that was killed may have put its files in place: then they are whole.
      if (!done && reason_ == "exists") verify_left(killed);
      return done;
    }
    Scenario broken = s;
    SimDefect end;
    end.kind = std::array{DefectKind::dead, DefectKind::eject, DefectKind::swap}[random_.below(3)];
    end.first = end.last = static_cast<Lba>(random_.below(900));
    if (end.kind == DefectKind::swap)
      broken.description.discs.push_back(other_disc(s.description.discs.front(), random_, folder_.path()));
    broken.description.defects.push_back(end);
    bool stopped = false;
    if (const auto done = attempt(broken, "a", stopped)) return done;
    ++counts_.stopped;
    return go_on(s);
  }

  /// With what is left of a dump in "a".
  std::optional<fs::path> go_on(Scenario& s) {
    bool stopped = false;
    Scenario again = random_.below(2) == 0 ? s : another_drive(s, random_);
    const std::uint64_t what = random_.below(4);
    // Somebody puts another disc in, or takes a drive that reads elsewhere: it must be told, never mixed.
    if (what == 0) again.description.discs.front() = other_disc(s.description.discs.front(), random_, folder_.path());
    const bool other_music = what == 1 && again.is_cd();
    if (other_music) again.description.drive.read_offset += 20;
    tamper(s);
    const auto done = attempt(again, "a", stopped);
    if (done) ++counts_.resumed;
    s = again;
    return what < 2 ? std::nullopt : done;  // as a whole it may be another disc: then it is a dump of that one
  }

  /// Now and then the state claims more than it should.
  void tamper(const Scenario& s) {
    if (random_.below(6) != 0) return;
    const fs::path state = folder_ / "a/x.opifex-dump-state";
    if (!fs::exists(state)) return;
    SectorMapFile file = parse_sector_map(testkit::read_file(state), state.string());
    const auto length = static_cast<std::uint64_t>(file.map.end() - file.map.first());
    const Lba at = file.map.first() + static_cast<Lba>(random_.below(length));
    if (s.is_cd()) file.map.set(at, at + 40, SectorState::untried);  // less, and where other sectors are
    std::ofstream(state, std::ios::binary) << print(file);
  }

  void verify_left(const Scenario& s) {
    const auto transport = simulate_drive(s.description, "sim");
    Dump job(request_of(s, "left"), *transport);
    const fs::path lead = request_of(s, "a").out, states = fs::path(lead).replace_extension(".opifex-map");
    std::optional<SectorMap> map;
    if (fs::exists(states)) map = parse_sector_map(testkit::read_file(states), states.string()).map;
    const Oracle oracle(s.description, shift_of(s));
    std::ifstream data(s.is_cd() ? fs::path(lead).replace_extension(".bin") : lead, std::ios::binary);
    Bytes sector(job.plan().sector_bytes());
    ++counts_.left;
    for (const Region& region : job.plan().regions)
      for (Lba lba = region.first; lba < region.end; ++lba) {
        data.read(reinterpret_cast<char*>(sector.data()), static_cast<std::streamsize>(sector.size()));
        if (!data) throw Lie(fmt::format("what was left behind ends at sector {}", lba));
        if ((!map || is_claim(map->at(lba))) && oracle.sector(lba) != sector)
          throw Lie(fmt::format("sector {} of what was left behind is not what the disc holds", lba));
      }
  }

  static std::string describe(const std::vector<Warning>& warnings) {
    std::string text;
    for (const Warning& w : warnings) text += w.code + " ";
    return text;
  }
  static bool has(const std::vector<Warning>& warnings, std::string_view code) {
    return std::any_of(warnings.begin(), warnings.end(), [&](const Warning& w) { return w.code == code; });
  }

  /// Changed before anything of it was believed, the disc is the other one from end to end.
  void verify(const Scenario& s, const DumpPlan& plan, const DumpResult& result) {
    if (s.description.discs.size() == 1) return verify_one(s, plan, result);
    Scenario other = s;
    other.description.discs.erase(other.description.discs.begin());
    try {
      verify_one(other, plan, result);
    } catch (const Lie&) {
      verify_one(s, plan, result);
    }
  }

  void verify_one(const Scenario& s, const DumpPlan& plan, const DumpResult& result) {
    const Oracle oracle(s.description, shift_of(s));
    if (s.is_cd()) {
      verify_layout(s, oracle, plan, result);
      verify_offset(s, plan);
    }
    std::ifstream data(s.is_cd() ? fs::path(plan.lead).replace_extension(".bin") : plan.lead, std::ios::binary);
    Bytes sector(plan.sector_bytes());
    std::uint64_t unsettled = 0;
    for (const Region& region : plan.regions)
      for (Lba lba = region.first; lba < region.end; ++lba) {
        data.read(reinterpret_cast<char*>(sector.data()), static_cast<std::streamsize>(sector.size()));
        if (!data) throw Lie(fmt::format("the image ends at sector {}", lba));
        ++counts_.sectors;
        const SectorState state = result.map.map.at(lba);
        if (!is_claim(state) && state != SectorState::runout) ++unsettled;
        if (!is_claim(state) && lba < oracle.end()) miss(s, region, lba, state, result);
        if (!is_claim(state)) continue;
        ++counts_.claimed;
        if (oracle.sector(lba) != sector)
          throw Lie(fmt::format("sector {} is called {}, and is not what the disc holds{} ({})", lba, to_string(state),
                                all_zero(sector) ? ": zeros" : "", describe(result.warnings)));
      }
    if (result.verdict == DumpVerdict::intact && unsettled > 0)
      throw Lie(fmt::format("intact, with {} sectors that are not", unsettled));
    if (s.subchannel && result.verdict == DumpVerdict::intact) verify_subchannel(plan);
  }

  void miss(const Scenario& s, const Region& region, Lba lba, SectorState state, const DumpResult& result) {
    if (!is_clean(s.description, lba)) return;
    ++counts_.missed[!s.description.drive.accurate_stream ? "of drives that jitter"
                     : result.stats.in_buffer > 0         ? "on discs no larger than the buffer"
                     : result.stats.lacking > 0           ? "out of the drive's reach, and others there"
                                                          : "others"];
    // Music may be out of reach, or not to be placed; data may not.
    if (region.kind == RegionKind::audio || !s.description.drive.accurate_stream || result.stats.in_buffer > 0) return;
    // So may the music in a pause of which nobody knows where it begins.
    if (lba < region.index1 || state == SectorState::runout || has(result.warnings, "gap_judged")) return;
    if (talks_) {
      const Bytes is = Oracle(s.description, shift_of(s)).sector(lba);
      std::printf("  sector %d is", lba);
      for (std::size_t i = 0; i < 32; ++i) std::printf(" %02x", std::to_integer<unsigned>(is[i]));
      std::printf("\n");
    }
    throw Lie(fmt::format("sector {} is {}, and nothing is wrong with it ({})", lba, to_string(state),
                          describe(result.warnings)));
  }

  /// What is said of the music's place is so.
  void verify_offset(const Scenario& s, const DumpPlan& plan) {
    if (!plan.found_offset) return;
    ++counts_.offsets;
    const int own = s.description.drive.read_offset + s.description.discs.front().write_offset;
    if (*plan.found_offset != own)
      throw Lie(fmt::format("the offset is called {}, and is {}", *plan.found_offset, own));
  }

  void verify_layout(const Scenario& s, const Oracle& oracle, const DumpPlan& plan, const DumpResult& result) {
    const cd::Layout &is = oracle.layout(), &told = plan.layout;
    const bool cut = has(result.warnings, "toc_too_long");
    if (cut && s.description.discs.front().toc_excess == 0) throw Lie("the disc was cut, and it is as long as it says");
    if (told.tracks.size() != is.tracks.size()) throw Lie(fmt::format("{} tracks", told.tracks.size()));
    for (std::size_t i = 0; i < is.tracks.size(); ++i) {
      const cd::Track &a = is.tracks[i], &b = told.tracks[i];
      const bool unknown = has(result.warnings, "mode_unknown");
      if (a.mode.kind != b.mode.kind && !unknown)
        throw Lie(fmt::format("track {} is {}, not {}", a.number, cd::to_string(b.mode), cd::to_string(a.mode)));
      if (a.start_lba != b.start_lba) throw Lie(fmt::format("track {} begins at {}", a.number, b.start_lba));
      const bool opens = i == 0 || is.tracks[i - 1].session != a.session;
      const bool doubted = has(result.warnings, "gap_uncertain") || has(result.warnings, "gap_unknown") ||
                           has(result.warnings, "gaps_unknown") || has(result.warnings, "gap_judged");
      if (!opens && a.pregap_lba != b.pregap_lba && !doubted)
        throw Lie(fmt::format("the pause of track {} begins at {}, not at {} ({})", a.number, b.pregap_lba,
                              a.pregap_lba, describe(result.warnings)));
    }
  }

  void verify_subchannel(const DumpPlan& plan) {
    const fs::path sub = fs::path(plan.lead).replace_extension(".sub");
    if (!fs::exists(sub)) return;  // this drive returns none
    const std::string bytes = testkit::read_file(sub);
    if (bytes.size() != plan.sectors() * cd::kSubchannelBytes) throw Lie("a .sub file of another size");
    for (std::size_t at = 0; at < bytes.size(); at += cd::kSubchannelBytes)
      if (all_zero(as_view(std::string_view(bytes).substr(at, cd::kSubchannelBytes))))
        throw Lie(fmt::format("intact, and the subchannel of sector {} is missing", at / cd::kSubchannelBytes));
  }

  void join(const std::vector<Scenario>& from, const std::vector<fs::path>& leads) {
    std::vector<RescueInput> inputs;
    for (const fs::path& lead : leads) {
      Image image = open_image(lead);
      auto map = maps_.find(lead);
      inputs.push_back({std::move(image), map != maps_.end() ? std::optional(map->second) : std::nullopt});
    }
    ++counts_.joins;
    Progress progress;
    JobContext context{progress, 1};
    try {
      const RescueResult joined = plan_rescue(std::move(inputs), context);
      if (talks_)
        for (const RescueRange& r : joined.ranges)
          std::printf("  joined %d to %d %s by %zu\n", r.first, r.end, std::string(to_string(r.how)).c_str(),
                      r.inputs.size());
      // Music whose offset nobody told lies where it does in one of the dumps.
      try {
        verify_joined(from[0], joined);
      } catch (const Lie& lie) {
        if (talks_) std::printf("  %s\n", lie.what());
        verify_joined(from[1], joined);
      }
    } catch (const Error& e) {
      if (e.details.code != "different_discs") throw;
    }
  }
  void verify_joined(const Scenario& s, const RescueResult& joined) {
    const Oracle oracle(s.description, shift_of(s));
    for (const StateRange& range : joined.map.ranges())
      for (Lba lba = range.first; lba < range.end; ++lba) {
        if (!is_claim(range.state)) continue;
        Bytes sector(s.is_cd() ? cd::kRawBytes : cd::kUserBytes);
        if (s.is_cd())
          joined.image.cd()->read(SectorForm::raw, lba, 1, sector);
        else
          joined.image.blocks()->read_at(static_cast<std::uint64_t>(lba) * cd::kUserBytes, sector);
        if (oracle.sector(lba) != sector)
          throw Lie(fmt::format("joined: sector {} is called {}, and is not what the disc holds", lba,
                                to_string(range.state)));
      }
  }

  testkit::TempFolder folder_;
  Random random_;
  Counts& counts_;
  bool talks_;               // of a single trial
  std::string reason_ = {};  // why the last dump was refused or stopped
  std::map<fs::path, SectorMapFile> maps_;
};

int campaign(double seconds, std::uint64_t seed, bool only_one) {
  using Clock = std::chrono::steady_clock;
  Counts counts;
  std::uint64_t failures = 0, trials = 0;
  const auto start = Clock::now();
  std::printf("dumps and joins from seed %llu\n", static_cast<unsigned long long>(seed));
  do {
    const std::clock_t began = std::clock();
    try {
      Trial(seed, counts, only_one).run();
      constexpr double kTooLong = 120;  // of processor time: it hangs, or is no better than that
      if (const double took = static_cast<double>(std::clock() - began) / CLOCKS_PER_SEC; took > kTooLong)
        throw Lie(fmt::format("it took {:.0f} s", took));
    } catch (const std::exception& e) {
      ++failures;
      std::printf("FAILED seed %llu: %s\n", static_cast<unsigned long long>(seed), e.what());
      std::fflush(stdout);
    }
    ++seed, ++trials;
  } while (!only_one && std::chrono::duration<double>(Clock::now() - start).count() < seconds);
  std::printf(
      "%s\n",
      fmt::format("{} trials, {} dumps ({} stopped or refused, {} killed, {} went on, {} found the offset), {} joins; "
                  "{} sectors, {} proved; {} failures",
                  trials, counts.dumps, counts.refused, counts.killed, counts.resumed, counts.offsets, counts.joins,
                  counts.sectors, counts.claimed, failures)
          .c_str());
  std::printf("  finished by the journal of one that was killed, and whole: %llu\n",
              static_cast<unsigned long long>(counts.left));
  for (const auto& [kind, n] : counts.missed)
    std::printf("  sound but not proved, %s: %llu\n", kind.c_str(), static_cast<unsigned long long>(n));
  for (const auto& [code, n] : counts.reasons)
    std::printf("  %s: %llu\n", code.c_str(), static_cast<unsigned long long>(n));
  return failures == 0 ? 0 : 1;
}

}  // namespace
}  // namespace opifex::campaign

int main(int argc, char** argv) {
  const double seconds = argc > 1 ? std::atof(argv[1]) : 60;
  const bool from = argc > 3 && std::strcmp(argv[2], "--from") == 0;
  const char* given = from ? argv[3] : argc > 2 ? argv[2] : nullptr;
  const auto now = static_cast<std::uint64_t>(std::chrono::system_clock::now().time_since_epoch().count());
  return opifex::campaign::campaign(seconds, given ? std::strtoull(given, nullptr, 10) : now, given && !from);
}
