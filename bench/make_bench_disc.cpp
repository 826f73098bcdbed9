// Writes the 700 MB disc of the benchmarks: make_bench_disc FOLDER
#include <cstdio>

#include "opifex/demo/workshop.hpp"

int main(int argc, char** argv) {
  using namespace opifex;
  if (argc != 2) return 2;
  // As mixed as a game with music: 517 MB of data, four tracks of 182 MB together.
  demo::Recipe mixed{
      .stem = "mixed", .data_sectors = 220'000, .audio_sectors = {20'000, 18'000, 17'000, 22'000}, .seed = 5};
  demo::write_disc(mixed, argv[1], demo::Files::bin_per_track);
  demo::Recipe data{.stem = "data", .data_sectors = 297'500, .seed = 6};
  demo::write_disc(data, argv[1], demo::Files::one_bin);
  std::puts("made");
}
