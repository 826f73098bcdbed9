// The list of detectors, in order of precedence at equal confidence: one line each.
#include <algorithm>

#include "opifex/core/image/format.hpp"

#include "disc_view.hpp"

#define OPIFEX_DETECTORS(DETECTOR)                  \
  DETECTOR(kPs3)         /* ps3_identity.cpp */     \
  DETECTOR(kPlayStation) /* playstation_disc.cpp */ \
  DETECTOR(kPsp)         /* psp_disc.cpp */         \
  DETECTOR(kDreamcast)   /* dreamcast_disc.cpp */   \
  DETECTOR(kSaturn)      /* saturn_disc.cpp */      \
  DETECTOR(kMegaCd)      /* megacd_disc.cpp */      \
  DETECTOR(kXbox)        /* xbox_discs.cpp */       \
  DETECTOR(kNintendo)    /* nintendo_discs.cpp */   \
  DETECTOR(kThreeDo)     /* three_do_disc.cpp */    \
  DETECTOR(kPcEngine)    /* nec_discs.cpp */        \
  DETECTOR(kNeoGeoCd)    /* neo_geo_cd.cpp */       \
  DETECTOR(kAmigaCd)     /* amiga_cd.cpp */         \
  DETECTOR(kCdI)         /* cdi_disc.cpp */         \
  DETECTOR(kVideoDiscs)  /* video_discs.cpp */

namespace opifex {

#define OPIFEX_DECLARE(name) extern const Detector name;
OPIFEX_DETECTORS(OPIFEX_DECLARE)
#undef OPIFEX_DECLARE

std::span<const Detector* const> detectors() {
#define OPIFEX_ADDRESS(name) &name,
  static constexpr std::array kDetectors = {OPIFEX_DETECTORS(OPIFEX_ADDRESS)};
#undef OPIFEX_ADDRESS
  return kDetectors;
}

namespace {

/// Of drives and files that are no images of games (non_images.cpp, game_folder.cpp).
constexpr std::array kContainers = {Platform{"fat12", "FAT12", PlatformKind::container},
                                    Platform{"fat16", "FAT16", PlatformKind::container},
                                    Platform{"fat32", "FAT32", PlatformKind::container},
                                    Platform{"exfat", "exFAT", PlatformKind::container},
                                    Platform{"ntfs", "NTFS", PlatformKind::container},
                                    Platform{"mbr", "partitions (MBR)", PlatformKind::container},
                                    Platform{"gpt", "partitions (GPT)", PlatformKind::container},
                                    Platform{"ps4", "PS4"}};

}  // namespace

const std::vector<Platform>& platforms() {
  static const std::vector<Platform> all = [] {
    std::vector<Platform> list = {kAudioCd, kIsoDisc, kUdfDisc, kBluRayVideo};
    list.insert(list.end(), kContainers.begin(), kContainers.end());
    for (const Detector* d : detectors()) list.insert(list.end(), d->platforms.begin(), d->platforms.end());
    for (const Format* f : formats()) list.insert(list.end(), f->platforms.begin(), f->platforms.end());
    return list;
  }();
  return all;
}

const Platform* find_platform(std::string_view id) {
  const auto at = std::find_if(platforms().begin(), platforms().end(), [&](const Platform& p) { return p.id == id; });
  return at == platforms().end() ? nullptr : &*at;
}

std::string platform_name(std::string_view id) {
  const Platform* platform = find_platform(id);
  return id.empty() ? "unknown" : std::string(platform ? platform->title : id);
}

bool is_kind(std::string_view id, PlatformKind kind) {
  const Platform* platform = find_platform(id);
  return platform && platform->kind == kind;
}

}  // namespace opifex
