// The colours of states can be told apart, also by eyes that see red and green, or blue and yellow, alike.
#include "opifex/report/palette.hpp"

#include <array>
#include <cmath>

#include <gtest/gtest.h>

namespace opifex::report {
namespace {

using Vector = std::array<double, 3>;
using Matrix = std::array<Vector, 3>;

Vector times(const Matrix& m, const Vector& v) {
  Vector out{};
  for (std::size_t i = 0; i < 3; ++i) out[i] = m[i][0] * v[0] + m[i][1] * v[1] + m[i][2] * v[2];
  return out;
}

/// sRGB to CIE L*a*b* (D65), as an eye sees it that Machado, Oliveira and Fernandes (2009) describe by `eye`.
Vector lab(std::uint32_t rgb, const Matrix& eye) {
  Vector linear;
  for (std::size_t i = 0; i < 3; ++i) {
    const double c = static_cast<double>(rgb >> (16 - 8 * i) & 0xFF) / 255;
    linear[i] = c <= 0.04045 ? c / 12.92 : std::pow((c + 0.055) / 1.055, 2.4);
  }
  linear = times(eye, linear);
  for (double& c : linear) c = std::min(1.0, std::max(0.0, c));
  const Matrix xyz = {{{0.4124, 0.3576, 0.1805}, {0.2126, 0.7152, 0.0722}, {0.0193, 0.1192, 0.9505}}};
  const Vector white = {0.95047, 1, 1.08883};
  Vector f = times(xyz, linear);
  for (std::size_t i = 0; i < 3; ++i) {
    const double t = f[i] / white[i];
    f[i] = t > 0.008856 ? std::cbrt(t) : 7.787 * t + 16.0 / 116;
  }
  return {116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])};
}

constexpr std::array<Matrix, 4> kEyes = {{
    {{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}},
    {{{0.152286, 1.052583, -0.204868}, {0.114503, 0.786281, 0.099216}, {-0.003882, -0.048116, 1.051998}}},
    {{{0.367322, 0.860646, -0.227968}, {0.280085, 0.672501, 0.047413}, {-0.011820, 0.042940, 0.968881}}},
    {{{1.255528, -0.076749, -0.178779}, {-0.078411, 0.930809, 0.147602}, {0.004733, 0.691367, 0.303900}}},
}};

double distance(std::uint32_t a, std::uint32_t b) {
  double least = 1e9;
  for (const Matrix& eye : kEyes) {
    const Vector x = lab(a, eye), y = lab(b, eye);
    least = std::min(least, std::hypot(x[0] - y[0], x[1] - y[1], x[2] - y[2]));
  }
  return least;
}

/// Twelve is several times what side by side can just be told apart.
constexpr double kTold = 12;

void expect_apart(const std::vector<Tone>& tones) {
  for (const Tone a : tones)
    for (const Tone b : tones)
      if (a < b) {
        EXPECT_GT(distance(shade(a).rgb, shade(b).rgb), kTold) << shade(a).name << " and " << shade(b).name;
      }
}

TEST(Palette, StatesOfADumpAreToldApartByEveryEye) {
  expect_apart({Tone::blank, Tone::gap, Tone::music, Tone::good, Tone::retried, Tone::mended, Tone::combined,
                Tone::unsure, Tone::wrong, Tone::lost, Tone::hang, Tone::untried});
}

TEST(Palette, StatesOfACheckAndOfALayoutAreToldApartByEveryEye) {
  expect_apart({Tone::blank, Tone::unproved, Tone::good, Tone::repairable, Tone::authored, Tone::wrong, Tone::lost,
                Tone::untried});
  expect_apart({Tone::blank, Tone::gap, Tone::session, Tone::data, Tone::music, Tone::files, Tone::tables,
                Tone::repairable, Tone::wrong, Tone::lost});
}

TEST(Palette, SeriesAreToldApartByEveryEye) {
  for (std::size_t a = 0; a < kSeries; ++a)
    for (std::size_t b = a + 1; b < kSeries; ++b)
      EXPECT_GT(distance(series_rgb(a), series_rgb(b)), kTold) << a << " " << b;
}

TEST(Palette, TheTableIsInTheOrderOfTheTones) {
  for (std::size_t i = 0; i < shades().size(); ++i) EXPECT_EQ(static_cast<std::size_t>(shades()[i].tone), i);
  EXPECT_EQ(shade(Tone::untried).tone, Tone::untried);
}

TEST(Palette, NoBadWordHasTheColourOfAGoodOne) {
  for (const char* word : {"damaged", "incomplete", "repairable", "unsupported", "not_known", "missing", "gone",
                           "changed", "unreadable", "lost", "bad_edc", "untried", "hang", "conflict", "unsure"})
    EXPECT_NE(shade(tone_of(std::string_view(word))).rgb, shade(Tone::good).rgb) << word;
  EXPECT_EQ(tone_of(std::string_view("a word of tomorrow")), Tone::blank);
}

}  // namespace
}  // namespace opifex::report
