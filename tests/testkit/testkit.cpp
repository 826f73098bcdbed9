#include "testkit.hpp"

#include <array>
#include <cstdlib>
#include <fstream>
#include <memory>
#include <sstream>
#include <stdexcept>

#include <fcntl.h>
#include <libdeflate.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include "opifex/core/base/hash.hpp"

extern char** environ;

namespace opifex::testkit {

TempFolder::TempFolder() {
  std::string pattern = (fs::temp_directory_path() / "opifex-test-XXXXXX").string();
  if (!::mkdtemp(pattern.data())) throw std::runtime_error("cannot make a temporary folder");
  path_ = pattern;
}

TempFolder::~TempFolder() {
  std::error_code ignored;
  fs::remove_all(path_, ignored);
}

std::string read_file(const fs::path& path) {
  std::ifstream in(path, std::ios::binary);
  if (!in) throw std::runtime_error("cannot read " + path.string());
  std::ostringstream text;
  text << in.rdbuf();
  return text.str();
}

void write_file(const fs::path& path, std::string_view bytes) {
  if (path.has_parent_path()) fs::create_directories(path.parent_path());
  std::ofstream out(path, std::ios::binary);
  out.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
  if (!out) throw std::runtime_error("cannot write " + path.string());
}

void flip_byte(const fs::path& path, std::uint64_t at, unsigned char mask) {
  std::string bytes = read_file(path);
  bytes.at(at) = static_cast<char>(static_cast<unsigned char>(bytes.at(at)) ^ mask);
  write_file(path, bytes);
}

std::string sha256_file(const fs::path& path) { return digest_of("sha256", as_view(read_file(path))); }

std::map<std::string, std::uint64_t> listing(const fs::path& folder) {
  std::map<std::string, std::uint64_t> names;
  for (const auto& entry : fs::recursive_directory_iterator(folder))
    names[fs::relative(entry.path(), folder).string()] = entry.is_regular_file() ? entry.file_size() : 0;
  return names;
}

fs::path vector_path(const std::string& name) { return fs::path(OPIFEX_VECTORS) / name; }

nlohmann::json vector_json(const std::string& name) { return nlohmann::json::parse(read_file(vector_path(name))); }

std::string gunzip(const fs::path& path) {
  const std::string packed = read_file(path);
  const std::uint32_t size = load_le32(as_view(packed), packed.size() - 4);
  std::string plain(size, '\0');
  const std::unique_ptr<libdeflate_decompressor, decltype(&libdeflate_free_decompressor)> d(
      libdeflate_alloc_decompressor(), &libdeflate_free_decompressor);
  if (libdeflate_gzip_decompress(d.get(), packed.data(), packed.size(), plain.data(), plain.size(), nullptr) !=
      LIBDEFLATE_SUCCESS)
    throw std::runtime_error("cannot unpack " + path.string());
  return plain;
}

void copy_folder(const fs::path& from, const fs::path& to) { fs::copy(from, to, fs::copy_options::recursive); }

Outcome run_program(const std::string& program, const std::vector<std::string>& arguments, const fs::path& folder) {
  // Into files: nothing can block, however much is printed.
  const TempFolder capture;
  const std::string out = (capture / "out").string(), err = (capture / "err").string();
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_addopen(&actions, 0, "/dev/null", O_RDONLY, 0);
  posix_spawn_file_actions_addopen(&actions, 1, out.c_str(), O_WRONLY | O_CREAT, 0600);
  posix_spawn_file_actions_addopen(&actions, 2, err.c_str(), O_WRONLY | O_CREAT, 0600);
  posix_spawn_file_actions_addchdir_np(&actions, folder.c_str());
  std::vector<std::string> words = {program};
  words.insert(words.end(), arguments.begin(), arguments.end());
  std::vector<char*> argv;
  for (std::string& word : words) argv.push_back(word.data());
  argv.push_back(nullptr);
  pid_t pid = 0;
  const int fault = ::posix_spawnp(&pid, program.c_str(), &actions, nullptr, argv.data(), environ);
  posix_spawn_file_actions_destroy(&actions);
  if (fault != 0) throw std::runtime_error("cannot run " + program);
  int status = 0;
  ::waitpid(pid, &status, 0);
  return {WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status), read_file(out), read_file(err)};
}

std::string error_code(const std::function<void()>& act) {
  try {
    act();
    return "";
  } catch (const Error& e) {
    return e.details.code;
  }
}

std::uint64_t Random::next() {
  // splitmix64
  std::uint64_t z = state_ += 0x9E3779B97F4A7C15u;
  z = (z ^ z >> 30) * 0xBF58476D1CE4E5B9u;
  z = (z ^ z >> 27) * 0x94D049BB133111EBu;
  return z ^ z >> 31;
}

Bytes Random::bytes(std::size_t n) {
  Bytes b(n);
  for (std::byte& x : b) x = static_cast<std::byte>(next());
  return b;
}

}  // namespace opifex::testkit
