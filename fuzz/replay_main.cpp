// Replays files and folders through a fuzz target without a fuzzer: in every test run, under the sanitizers too. Each
// file is also replayed cut at several places; one that is packed both as it is and unpacked.
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <vector>

#include <zlib.h>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size);

namespace {

void replay(const std::vector<char>& bytes) {
  const auto* data = reinterpret_cast<const std::uint8_t*>(bytes.data());
  LLVMFuzzerTestOneInput(data, bytes.size());
  for (const std::size_t part : {2u, 3u, 7u, 50u}) LLVMFuzzerTestOneInput(data, bytes.size() / part);
}

/// As far as a fuzzer would go.
std::vector<char> unpacked(const std::filesystem::path& path) {
  constexpr unsigned kMost = 2 << 20;
  std::vector<char> bytes(kMost);
  const gzFile file = ::gzopen(path.c_str(), "rb");
  if (file == nullptr) return {};
  const int n = ::gzread(file, bytes.data(), kMost);
  ::gzclose(file);
  bytes.resize(n < 0 ? 0 : static_cast<std::size_t>(n));
  return bytes;
}

std::size_t replay(const std::filesystem::path& path) {
  std::ifstream in(path, std::ios::binary);
  replay(std::vector<char>{std::istreambuf_iterator<char>(in), {}});
  if (path.extension() == ".gz") replay(unpacked(path));
  return 1;
}

}  // namespace

int main(int argc, char** argv) {
  std::size_t count = 0;
  for (int i = 1; i < argc; ++i) {
    if (std::filesystem::is_regular_file(argv[i])) count += replay(argv[i]);
    if (!std::filesystem::is_directory(argv[i])) continue;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(argv[i]))
      if (entry.is_regular_file()) count += replay(entry.path());
  }
  std::printf("replayed %zu files\n", count);
  return count > 0 ? 0 : 1;  // a corpus that is gone must not pass
}
