/// Why a list does not know an image, as far as that can be found out: a second look at what no list has as it is.
#pragma once

#include <map>
#include <memory>
#include <optional>

#include "opifex/core/jobs/known.hpp"
#include "opifex/core/jobs/sources.hpp"

namespace opifex::jobs {

/// Of a track, what its check has shown.
struct TrackFacts {
  int number = 1;
  bool audio = false;
  cd::Lba first = 0;                    ///< that is stored
  std::optional<cd::Lba> damaged = {};  ///< the first sector that is
  ListedView view = {};
};

/// What is to be explained.
struct Unknown {
  std::string name;                      ///< as it is told: a path
  std::vector<std::string> called = {};  ///< the names of its files, folder and archive
  const Source* source = nullptr;        ///< null: a file that is no image
  std::vector<TrackFacts> tracks = {};
};

class WhyNot {
 public:
  WhyNot(const std::vector<KnownListPtr>& lists, JobContext& context) : lists_(lists), context_(context) {}

  /// Adds to `as` what comes out. An image that cannot be read again is left as it is: its check has told that. What no
  /// set has to do with by name, serial or content is read again only if it was asked for alone: of many files a list
  /// does not know most have nothing to do with it.
  void explain(const Unknown& unknown, KnownAs& as, bool asked_alone);

 private:
  /// Sets by the hash of a key, sorted.
  using SetsByKey = std::vector<std::pair<std::uint64_t, std::uint32_t>>;
  struct Index {
    SetsByKey serials, titles;
    std::unique_ptr<EntriesBySize> sizes = {};  // made when somebody asks
  };
  struct Related {
    std::vector<std::uint32_t> sets;  // best first
    std::vector<std::uint32_t> by_serial, by_title;
    std::string serial;
  };
  Index& index_of(std::size_t list);
  const EntriesBySize& sizes_of(std::size_t list);
  bool knows_serials(const KnownAs& as) { return !index_of(as.list).serials.empty(); }
  Related related(const Unknown& unknown, const Image* image, const KnownAs& as);
  void tell_related(const Related& related, KnownAs& as) const;
  void tell_lost_subheaders(const Image& image, KnownAs& as);
  void tell_places(const Unknown& unknown, KnownAs& as) const;
  void look_at_tracks(const Unknown& unknown, const Image& image, const Related& related, KnownAs& as);
  void look_at_file(const SourcePtr& bytes, const Related& related, KnownAs& as);
  void tell(int track, std::uint32_t unit, const CloseLook& look, KnownAs& as) const;
  void tell_offsets(KnownAs& as) const;

  const std::vector<KnownListPtr>& lists_;
  JobContext& context_;
  std::map<std::size_t, Index> indexes_;
};

}  // namespace opifex::jobs
