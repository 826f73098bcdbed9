#include "picture.hpp"

#include <algorithm>
#include <sstream>

namespace opifex::testkit {

std::uint32_t Picture::at(unsigned x, unsigned y) const {
  const std::size_t i = (std::size_t{y} * width + x) * 3;
  const auto byte = [&](std::size_t n) { return static_cast<std::uint32_t>(static_cast<unsigned char>(pixels.at(n))); };
  return byte(i) << 16 | byte(i + 1) << 8 | byte(i + 2);
}

std::size_t Picture::count(std::uint32_t rgb) const {
  std::size_t n = 0;
  for (unsigned y = 0; y < height; ++y)
    for (unsigned x = 0; x < width; ++x) n += at(x, y) == rgb;
  return n;
}

std::size_t Picture::colours() const {
  std::vector<std::uint32_t> seen;
  seen.reserve(pixels.size() / 3);
  for (unsigned y = 0; y < height; ++y)
    for (unsigned x = 0; x < width; ++x) seen.push_back(at(x, y));
  std::sort(seen.begin(), seen.end());
  return static_cast<std::size_t>(std::unique(seen.begin(), seen.end()) - seen.begin());
}

Picture open_picture(const fs::path& png) {
  const Outcome run = run_program("convert-im6.q16", {png.string(), "-depth", "8", "ppm:-"}, png.parent_path());
  Picture picture;
  std::istringstream head(run.out);
  std::string magic;
  unsigned most = 0;
  head >> magic >> picture.width >> picture.height >> most;
  if (run.exit_code != 0 || magic != "P6" || most != 255) throw std::runtime_error(png.string() + ": " + run.err);
  picture.pixels = run.out.substr(static_cast<std::size_t>(head.tellg()) + 1);
  if (picture.pixels.size() != std::size_t{picture.width} * picture.height * 3)
    throw std::runtime_error("a picture is cut");
  return picture;
}

}  // namespace opifex::testkit
