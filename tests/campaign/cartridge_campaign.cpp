// cartridge_campaign TRIALS [--from SEED]: every claim of so many dumps held against the simulated cartridges.
#include <cstdio>
#include <cstring>

#include "cartridge_trial.hpp"

int main(int argc, char** argv) {
  const unsigned long long trials = argc > 1 ? std::strtoull(argv[1], nullptr, 10) : 500;
  const unsigned long long first =
      argc > 3 && std::strcmp(argv[2], "--from") == 0 ? std::strtoull(argv[3], nullptr, 10) : 1;
  opifex::campaign::CartridgeCounts counts;
  unsigned long long failures = 0;
  for (unsigned long long seed = first; seed < first + trials; ++seed) {
    std::string lie;
    try {
      lie = opifex::campaign::cartridge_trial(seed, counts);
    } catch (const std::exception& e) {
      lie = e.what();
    }
    if (lie.empty()) continue;
    ++failures;
    std::printf("FAILED seed %llu: %s\n", seed, lie.c_str());
  }
  std::printf("%llu cartridges from seed %llu, %llu went on where they stopped, %llu failures\n", trials, first,
              static_cast<unsigned long long>(counts.resumed), failures);
  for (const auto& [end, n] : counts.ends) std::printf("  %s: %llu\n", end.c_str(), static_cast<unsigned long long>(n));
  return failures == 0 ? 0 : 1;
}
