#include "opifex/core/dump/folder_copy.hpp"

#include <algorithm>
#include <fstream>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/target.hpp"

namespace opifex::dump {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kBlock = 2048;   // of the disc
constexpr std::size_t kRun = 1 << 20;  // read at once while all goes well
constexpr std::byte kLost{0x55};

/// Space, tab, line feed and backslash stand as octal numbers there.
std::string unescaped(std::string_view text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '\\' && i + 3 < text.size()) {
      out += static_cast<char>((text[i + 1] - '0') * 64 + (text[i + 2] - '0') * 8 + (text[i + 3] - '0'));
      i += 3;
    } else {
      out += text[i];
    }
  }
  return out;
}

bool holds(const std::string& mount, const std::string& path) {
  if (mount == "/") return true;
  return path.starts_with(mount) && (path.size() == mount.size() || path[mount.size()] == '/');
}

/// Reads what can be read; blocks that cannot are filled and noted.
void read_run(const ByteSource& source, std::uint64_t at, std::span<std::byte> out,
              std::vector<UnreadableBytes>& unreadable) {
  const auto failed = [](const Error& e) { return e.details.cause == Cause::unreadable; };
  try {
    return source.read_at(at, out);
  } catch (const Error& e) {
    if (!failed(e)) throw;
  }
  for (std::size_t done = 0; done < out.size(); done += kBlock) {
    const auto block = out.subspan(done, std::min(kBlock, out.size() - done));
    try {
      source.read_at(at + done, block);
    } catch (const Error& e) {
      if (!failed(e)) throw;
      std::fill(block.begin(), block.end(), kLost);
      if (!unreadable.empty() && unreadable.back().first + unreadable.back().size_bytes == at + done)
        unreadable.back().size_bytes += block.size();
      else
        unreadable.push_back({at + done, block.size()});
    }
  }
}

std::string hash_file(const fs::path& path, JobContext& context) {
  const SourcePtr file = open_file(path);
  Digest digest("sha1");
  Bytes buffer;
  for (std::uint64_t at = 0; at < file->size(); at += buffer.size()) {
    context.progress.check_stop();
    buffer.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kRun, file->size() - at)));
    file->read_at(at, buffer);
    digest.update(buffer);
  }
  return digest.finish();
}

/// Reads the source once, writing if `out` is given.
std::string read_through(const ByteSource& source, OutputFile* out, CopiedFile& file, JobContext& context) {
  Digest digest("sha1");
  Bytes buffer;
  for (std::uint64_t at = 0; at < file.size_bytes; at += buffer.size()) {
    context.progress.check_stop();
    buffer.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kRun, file.size_bytes - at)));
    read_run(source, at, buffer, file.unreadable);
    digest.update(buffer);
    if (out) out->write(buffer);
    context.progress.done_bytes += buffer.size();
  }
  return digest.finish();
}

void copy_one(const fs::path& from, const fs::path& target, Existing existing, CopiedFile& file, const Opener& open,
              JobContext& context) {
  const SourcePtr source = open(from);
  std::error_code ignored;
  if (fs::exists(target, ignored)) {
    file.sha1 = read_through(*source, nullptr, file, context);
    file.was_there = fs::is_regular_file(target, ignored) && hash_file(target, context) == file.sha1;
    if (file.was_there) return;
    refuse_existing({target}, InputFiles({from}), existing);
    file.unreadable.clear();
  }
  OutputSet set(existing);
  file.sha1 = read_through(*source, &set.add(target), file, context);
  set.commit();
  if (hash_file(target, context) != file.sha1)
    throw Error({.fault = Fault::device,
                 .code = "proof_failed",
                 .what = "the copy does not read back as it was written",
                 .file = target.string(),
                 .hint = "check the target drive, and copy again"});
  fs::last_write_time(target, fs::last_write_time(from, ignored), ignored);
}

}  // namespace

bool FolderCopy::complete() const {
  return std::all_of(files.begin(), files.end(), [](const CopiedFile& f) { return f.unreadable.empty(); });
}

std::string mounted_file_system(const fs::path& path) {
  std::error_code ignored;
  const std::string real = fs::canonical(path, ignored).string();
  std::ifstream table("/proc/self/mountinfo");
  std::string line, best, type;
  while (std::getline(table, line)) {
    const auto words = split_words(line);
    const auto dash = std::find(words.begin(), words.end(), "-");
    if (words.size() < 5 || dash == words.end() || dash + 1 == words.end()) continue;
    const std::string mount = unescaped(words[4]);
    if (!holds(mount, real) || mount.size() < best.size()) continue;
    best = mount;
    type = std::string(*(dash + 1));
  }
  return type;
}

FolderCopy plan_folder_copy(const fs::path& from) {
  FolderCopy copy;
  copy.file_system = mounted_file_system(from);
  if (copy.file_system != "iso9660" && copy.file_system != "udf")
    copy.warnings.push_back(
        {"no_mounted_disc", fmt::format("this folder lies on {}, not on a disc: its files are copied",
                                        copy.file_system.empty() ? "an unknown drive" : copy.file_system)});
  std::error_code error;
  for (fs::recursive_directory_iterator i(from, error), end; i != end && !error; i.increment(error)) {
    if (i->is_symlink()) {
      copy.warnings.push_back({"link_left_out", fmt::format("{} is a link and is not copied", i->path().string())});
      continue;
    }
    if (!i->is_regular_file()) continue;
    copy.files.push_back({fs::relative(i->path(), from), i->file_size(), "", false, {}});
    copy.total_bytes += copy.files.back().size_bytes;
  }
  if (error) throw_system_error("cannot list the folder", from.string(), error.value());
  std::sort(copy.files.begin(), copy.files.end(), [](const auto& a, const auto& b) { return a.path < b.path; });
  return copy;
}

FolderCopy copy_folder(const fs::path& from, const fs::path& into, Existing existing, JobContext& context,
                       const Opener& open) {
  FolderCopy copy = plan_folder_copy(from);
  std::vector<PlannedFile> planned;
  std::error_code ignored;
  for (const CopiedFile& f : copy.files)
    planned.push_back({into / f.path, fs::exists(into / f.path, ignored) ? 0 : f.size_bytes});
  check_fits(planned, target_facts(into));
  context.progress.begin("copying files", copy.total_bytes);
  for (CopiedFile& f : copy.files) copy_one(from / f.path, into / f.path, existing, f, open, context);
  return copy;
}

}  // namespace opifex::dump
