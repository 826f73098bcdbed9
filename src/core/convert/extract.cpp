#include "opifex/core/convert/extract.hpp"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <map>
#include <unordered_set>

#include <fcntl.h>
#include <sys/stat.h>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/glob.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/kept_facts.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kRun = 1 << 20;

/// XA files with the bytes beyond the 2048 that a file system sees.
class Form2Source final : public ByteSource {
 public:
  Form2Source(CdImagePtr disc, const Volume& volume, const VolumeEntry& entry, Form2As as)
      : disc_(std::move(disc)), name_(entry.path), each_(as == Form2As::raw ? cd::kRawBytes : cd::kForm2Bytes) {
    for (const VolumeExtent& e : entry.extents)
      runs_.push_back({static_cast<cd::Lba>(static_cast<std::int64_t>(e.sector) + volume.shift),
                       static_cast<std::uint32_t>(e.sectors())});
    if (as == Form2As::payload) measure();
    for (const auto& [lba, count] : runs_) sectors_ += count;
  }
  std::uint64_t size() const override { return starts_.empty() ? sectors_ * each_ : starts_.back(); }
  std::string name() const override { return name_; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    cd::Sector sector;
    while (!out.empty()) {
      const auto [index, inside] = find(offset);
      disc_->read_sector(lba_of(index), sector);
      const ByteView bytes = starts_.empty() ? ByteView(sector) : payload_of(sector);
      const std::size_t n = std::min(out.size(), bytes.size() - inside);
      std::copy_n(bytes.begin() + static_cast<std::ptrdiff_t>(inside), n, out.begin());
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  static ByteView payload_of(const cd::Sector& s) {
    constexpr unsigned kForm2 = 0x20;
    const bool form2 = s[15] == std::byte{2} && (std::to_integer<unsigned>(s[cd::kSubheaderAt + 2]) & kForm2) != 0;
    const std::size_t at = s[15] == std::byte{2} ? cd::kSubheaderAt + 8 : cd::kSubheaderAt;
    return ByteView(s).subspan(at, form2 ? cd::kForm2Bytes : cd::kUserBytes);
  }
  cd::Lba lba_of(std::uint64_t index) const {
    for (const auto& [lba, count] : runs_) {
      if (index < count) return lba + static_cast<cd::Lba>(index);
      index -= count;
    }
    throw Error({.code = "truncated", .what = "the file ends too early", .file = name_});
  }
  std::pair<std::uint64_t, std::size_t> find(std::uint64_t offset) const {
    if (starts_.empty()) return {offset / each_, static_cast<std::size_t>(offset % each_)};
    const auto after = std::upper_bound(starts_.begin(), starts_.end(), offset) - starts_.begin();
    const std::uint64_t before = after == 0 ? 0 : starts_[static_cast<std::size_t>(after) - 1];
    return {static_cast<std::uint64_t>(after), static_cast<std::size_t>(offset - before)};
  }
  /// Sectors of both forms have different sizes: where each ends has to be looked up.
  void measure() {
    cd::Sector sector;
    std::uint64_t end = 0;
    for (const auto& [lba, count] : runs_)
      for (std::uint32_t i = 0; i < count; ++i) {
        disc_->read_sector(lba + static_cast<cd::Lba>(i), sector);
        starts_.push_back(end += payload_of(sector).size());
      }
  }

  CdImagePtr disc_;
  std::string name_;
  std::size_t each_;
  std::vector<std::pair<cd::Lba, std::uint32_t>> runs_;
  std::uint64_t sectors_ = 0;
  std::vector<std::uint64_t> starts_;  // where each sector's payload ends; empty: all alike
};

class ExtractPlanner {
 public:
  ExtractPlanner(const Image& image, const ExtractRequest& request, const TargetFacts& facts)
      : image_(image), request_(request), longest_(std::max<std::size_t>(facts.longest_name, 255)) {
    plan_.disc = image.cd();
    plan_.form2 = request.form2;
    plan_.saves = request.saves;
    rules_ = facts.name_rules();
  }

  ExtractPlan plan(const std::vector<Volume>& volumes) {
    std::vector<bool> used(request_.paths.size(), false);
    for (const Volume& v : volumes) {
      const auto number = static_cast<std::size_t>(&v - volumes.data());
      take_host_names(v);
      // The list has its name before any file of the image has.
      if (!host_names_.empty()) taken_.insert(fold_case(joined(root_of(number), std::string(kKeptFactsName))));
      KeptFiles kept;
      for (const VolumeEntry& e : v.entries)
        if (wanted(e.path, used)) add(v, e, number, kept);
      if (!kept.empty()) plan_.lists[root_of(number)] = std::move(kept);
    }
    for (std::size_t i = 0; i < used.size(); ++i)
      if (!used[i])
        throw Error({.fault = Fault::usage,
                     .code = "no_such_path",
                     .what = "nothing in the image fits this path",
                     .file = image_.path.string(),
                     .found = printable(request_.paths[i]),
                     .hint = "<job files> shows what is in it"});
    std::stable_sort(plan_.items.begin(), plan_.items.end(), [](const ExtractItem& a, const ExtractItem& b) {
      if (a.is_folder() != b.is_folder()) return a.is_folder();
      return !a.is_folder() && first_sector(a) < first_sector(b);
    });
    return std::move(plan_);
  }

 private:
  static std::uint64_t first_sector(const ExtractItem& i) {
    return i.entry->extents.empty() ? 0 : i.entry->extents.front().sector;
  }
  bool wanted(const std::string& path, std::vector<bool>& used) const {
    if (request_.paths.empty()) return true;
    bool any = false;
    for (std::size_t i = 0; i < used.size(); ++i)
      if (path_fits(request_.paths[i], path)) used[i] = any = true;
    return any;
  }

  std::string root_of(std::size_t volume) const {
    return volume == 0 ? request_.into.string() : (request_.into / fmt::format("volume-{}", volume + 1)).string();
  }
  /// Names for this computer that the file system has made itself, by path.
  void take_host_names(const Volume& volume) {
    host_names_.clear();
    for (const VolumeEntry& e : volume.entries)
      if (e.facts && !e.facts->host_name.empty()) host_names_[e.path] = host_name(e);
  }
  std::string host_name(const VolumeEntry& e) const {
    const bool bare = plan_.saves == SavesAs::bare || e.facts->ending.empty();
    return e.facts->host_name + std::string(bare ? e.facts->bare_ending : e.facts->ending);
  }

  /// "NAME (2).EXT" where there is no room for it behind the name, else "NAME.EXT (2)".
  std::string numbered(const std::string& plain, int n) const {
    const std::string number = fmt::format(" ({})", n);
    return shortened(plain, longest_ - number.size(), kLongestNameBytes - number.size()) + number;
  }

  /// The target of a path, part by part; a second name that differs in case only gets a number.
  std::string target_of(const VolumeEntry& entry, std::size_t volume, bool& renamed) {
    const std::string& path = entry.path;
    std::string key = std::to_string(volume), target = root_of(volume);
    for (std::size_t at = 0;;) {
      const std::size_t end = std::min(path.find('/', at), path.size());
      const auto own = host_names_.find(path.substr(0, end));
      const std::string part = own != host_names_.end() ? own->second : path.substr(at, end - at);
      const bool is_file = end == path.size() && entry.kind != EntryKind::folder;
      key += "/" + part;
      // Folders are met again with all that is in them; two files of one name are two files.
      const auto known = is_file ? folders_.end() : folders_.find(key);
      const std::string name = known != folders_.end() ? known->second : free_name(target, part);
      if (!is_file && known == folders_.end()) folders_.emplace(key, name);
      // A save in a file of its own only gets an ending.
      const std::string_view there = std::string_view(path).substr(at, end - at);
      const bool ending_only = is_file && entry.facts && !entry.facts->bare_ending.empty() && name.starts_with(there);
      renamed = renamed || (name != there && !ending_only);
      target = joined(target, name);
      if (end == path.size()) return target;
      at = end + 1;
    }
  }
  static std::string joined(const std::string& folder, const std::string& name) {
    return folder.empty() || folder.ends_with('/') ? folder + name : folder + "/" + name;
  }
  /// The name a part of a path gets in this folder; it is taken from now on.
  std::string free_name(const std::string& folder, const std::string& part) {
    const std::string plain = shortened(made_safe(part, rules_), longest_);
    const std::string folded = fold_case(joined(folder, plain));
    if (taken_.insert(folded).second) return plain;
    // Thousands of names may become the same one: the search goes on where it ended for the last.
    int& n = next_number_.try_emplace(folded, 2).first->second;
    std::string name;
    do name = numbered(plain, n++);
    while (!taken_.insert(fold_case(joined(folder, name))).second);
    return name;
  }

  void add(const Volume& v, const VolumeEntry& e, std::size_t volume, KeptFiles& kept) {
    if (!e.refused.empty()) return skip(e, e.refused);
    if (e.kind == EntryKind::link) return skip(e, "a symbolic link to " + printable(e.link));
    if (e.kind == EntryKind::audio) return skip(e, "a music track: convert the image to get it");
    const bool in_part = !e.sound && !e.flaw.empty() && request_.even_damaged && e.source;
    if (!e.sound && !in_part)
      return skip(e, e.flaw.empty() ? "it lies outside the image" : "it cannot be read whole: " + e.flaw);
    ExtractItem item{.entry = &e, .volume = &v};
    item.target = target_of(e, volume, item.renamed);
    if (!item.is_folder()) {
      item.raw_sectors = e.form2 && image_.cd() && !image_.blocks();
      item.size_bytes = plan_.open(item)->size();
      plan_.total_bytes += item.size_bytes;
    }
    const std::string listed = item.target.substr(std::min(item.target.size(), root_of(volume).size() + 1));
    if (auto facts = kept_of(e, fs::path(item.target).filename().string())) kept[listed] = std::move(*facts);
    plan_.items.push_back(std::move(item));
  }
  void skip(const VolumeEntry& e, std::string why) { plan_.skipped.push_back({e.path, std::move(why)}); }

  const Image& image_;
  const ExtractRequest& request_;
  std::size_t longest_;
  NameRules rules_ = NameRules::host;
  ExtractPlan plan_;
  std::map<std::string, std::string> host_names_;  // of the volume at hand, by path
  std::map<std::string, std::string> folders_;     // by path in the image
  std::unordered_set<std::string> taken_;          // folded paths
  std::map<std::string, int> next_number_;         // by the name that is taken
};

void set_time(const fs::path& path, const VolumeEntry& entry) {
  if (!entry.modified) return;
  const timespec t{*entry.modified, entry.facts ? static_cast<long>(entry.facts->hundredths) * 10'000'000 : 0};
  const std::array<timespec, 2> times = {t, t};
  ::utimensat(AT_FDCWD, path.c_str(), times.data(), AT_SYMLINK_NOFOLLOW);  // a drive without such dates is no failure
}

void copy(const ByteSource& source, OutputFile& out, JobContext& context) {
  if (source.size() <= kRun) {
    Bytes bytes(static_cast<std::size_t>(source.size()));
    source.read_at(0, bytes);
    out.write(bytes);
    context.progress.done_bytes += bytes.size();
    return;
  }
  const auto bytes_of = [&](std::uint64_t index) {
    return std::min<std::uint64_t>(kFlowBlockBytes, source.size() - index * kFlowBlockBytes);
  };
  Flow flow;
  flow.next = [&](FlowBlock& block) {
    if (block.index * kFlowBlockBytes >= source.size()) return false;
    block.data.resize(static_cast<std::size_t>(bytes_of(block.index)));
    return true;
  };
  flow.work = [&](FlowBlock& block) {
    const std::uint64_t at = block.index * kFlowBlockBytes;
    if (source.next_data(at) >= at + block.data.size()) return block.data.clear();  // a hole stays one
    source.read_at(at, block.data);
  };
  flow.consume.emplace_back([&](const FlowBlock& block) {
    const std::uint64_t bytes = bytes_of(block.index);
    block.data.empty() ? out.skip(bytes) : out.write(block.data);
    context.progress.done_bytes += bytes;
  });
  run_flow(flow, context);
}

bool same_bytes(const ByteSource& a, const ByteSource& b, JobContext& context) {
  return a.size() == b.size() && !first_difference(a, b, context.progress);
}

class Runner {
 public:
  Runner(const ExtractPlan& plan, const ExtractJob& job, JobContext& context)
      : plan_(plan), job_(job), context_(context) {}

  std::vector<Extracted> run() {
    results_.assign(plan_.items.size(), Extracted::written);
    PlannedTotal total(job_.facts);
    for (std::size_t i = 0; i < plan_.items.size(); ++i) {
      const ExtractItem& item = plan_.items[i];
      if (item.is_folder()) continue;
      if (is_there(item)) {
        results_[i] = Extracted::was_there;
        continue;
      }
      refuse_existing({item.target}, job_.inputs, job_.existing);
      total.add({item.target, item.size_bytes});
    }
    total.check();
    context_.progress.begin("extracting", plan_.total_bytes);
    make_folders();
    write_files();
    if (job_.verify) verify();
    write_lists();
    for (auto item = plan_.items.rbegin(); item != plan_.items.rend(); ++item)
      if (item->is_folder()) set_time(item->target, *item->entry);
    return std::move(results_);
  }

 private:
  bool is_there(const ExtractItem& item) const {
    struct stat facts {};
    if (::lstat(item.target.c_str(), &facts) != 0 || !S_ISREG(facts.st_mode)) return false;
    if (static_cast<std::uint64_t>(facts.st_size) != item.size_bytes) return false;
    // FAT counts in steps of two seconds.
    const bool same_date = item.entry->modified && std::abs(facts.st_mtim.tv_sec - *item.entry->modified) <= 2;
    if (same_date && !job_.verify) return true;
    return same_bytes(*plan_.open(item), *open_file(item.target), context_);
  }

  static void make_folder(const fs::path& folder) {
    std::error_code error;
    fs::create_directories(folder, error);
    // A link that leads nowhere, or a file, is no folder, whatever create_directories() says.
    if (!error && !fs::is_directory(folder, error)) error = std::make_error_code(std::errc::not_a_directory);
    if (error) throw_system_error("cannot create the folder", folder.string(), error.value());
  }

  void make_folders() const {
    make_folder(job_.into);
    for (const ExtractItem& item : plan_.items)
      if (item.is_folder()) make_folder(item.target);
  }

  /// Several files are put in place together: one sync of the drive for all of them.
  void write_files() {
    constexpr std::size_t kMostFiles = 250;
    constexpr std::uint64_t kMostBytes = 256 << 20;
    for (std::size_t i = 0; i < plan_.items.size();) {
      OutputSet set(job_.existing, job_.inputs, Placed::singly);
      std::vector<const ExtractItem*> written;
      std::uint64_t bytes = 0;
      for (; i < plan_.items.size() && written.size() < kMostFiles && bytes < kMostBytes; ++i) {
        const ExtractItem& item = plan_.items[i];
        context_.progress.check_stop();
        if (item.is_folder()) continue;
        if (results_[i] == Extracted::was_there) {
          context_.progress.done_bytes += item.size_bytes;
          continue;
        }
        copy(*plan_.open(item), set.add(item.target), context_);
        bytes += item.size_bytes;
        written.push_back(&item);
      }
      set.commit();
      for (const ExtractItem* item : written) set_time(item->target, *item->entry);
    }
  }

  /// Beside files of which there is more to tell. What an earlier one says of other files stays.
  void write_lists() const {
    for (const auto& [folder, files] : plan_.lists) {
      KeptFiles all = read_kept_facts(folder);
      for (const auto& [path, file] : files) all[path] = file;
      const std::string text = kept_facts_text(all);
      const fs::path list = fs::path(folder) / kKeptFactsName;
      std::error_code error;
      if (fs::is_regular_file(list, error)) {
        const SourcePtr there = open_file(list);
        if (there->size() == text.size() && as_text(read_up_to(*there, 0, text.size())) == text) continue;
      }
      write_whole_file(list, text, Existing::replace, job_.inputs);
    }
  }

  void verify() {
    context_.progress.begin("comparing", plan_.total_bytes);
    for (const ExtractItem& item : plan_.items) {
      if (item.is_folder()) continue;
      if (!same_bytes(*plan_.open(item), *open_file(item.target), context_))
        throw Error({.fault = Fault::device,
                     .code = "proof_failed",
                     .what = "a file does not read back as it was written",
                     .file = item.target,
                     .hint = "check the target drive, and extract again"});
      context_.progress.done_bytes += item.size_bytes;
    }
  }

  const ExtractPlan& plan_;
  const ExtractJob& job_;
  JobContext& context_;
  std::vector<Extracted> results_;
};

}  // namespace

SourcePtr ExtractPlan::open(const ExtractItem& item) const {
  if (item.raw_sectors) return std::make_shared<Form2Source>(disc, *item.volume, *item.entry, form2);
  if (!item.entry->sound && item.entry->source) return item.entry->source;
  if (saves == SavesAs::single && item.entry->facts && !item.entry->facts->header.empty())
    return concat_source({memory_source(item.entry->facts->header, item.entry->path), item.volume->open(*item.entry)},
                         item.entry->path);
  return item.volume->open(*item.entry);
}

std::optional<std::uint64_t> first_difference(const ByteSource& a, const ByteSource& b, const Progress& progress) {
  constexpr std::size_t kPiece = 256 << 10;  // both stay in the nearer caches
  Bytes x(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, a.size()))), y(x.size());
  for (std::uint64_t at = 0; at < a.size(); at += x.size()) {
    progress.check_stop();
    x.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, a.size() - at)));
    y.resize(x.size());
    a.read_at(at, x);
    b.read_at(at, y);
    if (std::memcmp(x.data(), y.data(), x.size()) != 0)
      return at + static_cast<std::uint64_t>(std::mismatch(x.begin(), x.end(), y.begin()).first - x.begin());
  }
  return std::nullopt;
}

ExtractPlan plan_extract(const Image& image, const std::vector<Volume>& volumes, const ExtractRequest& request,
                         const TargetFacts& facts) {
  return ExtractPlanner(image, request, facts).plan(volumes);
}

std::vector<Extracted> run_extract(const ExtractPlan& plan, const ExtractJob& job, JobContext& context) {
  return Runner(plan, job, context).run();
}

}  // namespace opifex
