/// Gathers what a check has found, for the known lists.
#pragma once

#include <map>
#include <set>

#include "opifex/core/check/check.hpp"
#include "opifex/core/check/content_digest.hpp"
#include "opifex/core/jobs/known.hpp"
#include "opifex/core/jobs/sources.hpp"
#include "opifex/core/platforms/identity.hpp"

#include "known_why.hpp"

namespace opifex::jobs {

/// Takes what a check has found, image by image, and then what else lies in the folders.
class KnownCollector {
 public:
  explicit KnownCollector(const Lists& lists);
  /// To gather only, with these hashes: there is no list yet.
  KnownCollector(const Lists& none, std::vector<std::string> algorithms)
      : lists_(none), algorithms_(std::move(algorithms)) {}

  /// Adds to what the check takes: the digests that lists use, if none was asked for in particular.
  void prepare(CheckOptions& options, bool hashes_chosen) const;
  /// `id`: what is known of it already; null: it is identified where that matters.
  void add_image(const Source& source, const Image& image, const CheckResult& result, const Identity* id = nullptr);
  /// One that was gathered earlier, by what was kept of it.
  struct KeptImage {
    std::string name;
    std::vector<CollectedFile> files;    ///< `unit` is found anew
    std::vector<CollectedPiece> pieces;  ///< their files are numbers among those
    std::string sheet, incomparable;
  };
  void add_kept(KeptImage image, const std::filesystem::path& folder);
  /// The one image that was gathered.
  KeptImage kept() const;
  /// A file that is no image may still be known.
  void add_file(const std::string& path, JobContext& context);
  /// An image that could not be read.
  void add_unreadable(const std::string& name, const std::string& why);
  /// All files below `folder` that no image consists of; links are not followed.
  void add_folder(const std::string& folder, JobContext& context);
  /// One that holds no image.
  void add_archive(const std::string& path);
  /// The members of archives that no image consists of.
  void add_members(JobContext& context);

  /// Files that could not be read, folders that could not be looked through: nothing was learnt of them.
  const std::vector<Error>& failures() const { return failures_; }

  struct Known {
    Collection collection;
    std::vector<ListMatch> matches;
    std::vector<KnownImage> images;
    bool good = true;  ///< every image is known, and no set is there in part
  };
  Known finish(JobContext& context);

 private:
  struct ImageParts {
    std::string name;
    std::vector<std::size_t> files, pieces;  // of the collection
    std::string sheet;
    bool checked = true;
    std::optional<Source> source = {};    // none: a file that is no image
    std::vector<TrackFacts> tracks = {};  // of a CD
    std::string incomparable = {};        // why lists of whole dumps cannot know it
  };
  std::size_t unit_of(const std::filesystem::path& folder, const std::string& name);
  std::size_t unit_of_archive(const std::filesystem::path& archive);
  std::size_t add(CollectedFile file, const std::filesystem::path& path);
  CollectedFile new_file(const std::filesystem::path& path, const std::filesystem::path& archive);
  void add_sheet(ImageParts& parts, const Source& source, const Image& image);
  void add_views(ImageParts& parts, const Image& image, const CheckResult& result, const Identity* id);
  void add_tracks(ImageParts& parts, const Image& image, const CheckResult& result);
  ListedView hash_bytes(const ByteSource& source, JobContext& context) const;
  void add_plain(const std::filesystem::path& path, const std::filesystem::path& archive, const SourcePtr& source,
                 JobContext& context);
  struct Hashed {
    std::optional<ListedView> view = {};
    std::optional<Error> error = {};
  };
  Hashed try_hash(const SourcePtr& source, JobContext& context) const;
  void add_hashed(const std::filesystem::path& path, const std::filesystem::path& archive, Hashed hashed);
  void add_plain_files(std::span<const std::filesystem::path> files, JobContext& context);
  bool take_archive(const std::filesystem::path& file);
  void try_large(const std::filesystem::path& file, JobContext& context);
  bool is_wanted(std::uint64_t size) const;
  void sort_files();
  bool all_whole() const;
  bool is_copy(const ImageParts& image, const ListMatch& match) const;
  void explain(const ImageParts& parts, KnownImage& image, WhyNot& why) const;
  KnownAs judge(const ImageParts& image, std::size_t list) const;

  const Lists& lists_;
  std::vector<std::string> algorithms_;
  std::vector<std::uint64_t> sizes_;  // that any list knows, sorted
  bool any_size_ = false;             // some entry has none
  Known known_;
  std::vector<Error> failures_;
  std::vector<ImageParts> images_;
  std::map<std::string, std::size_t> units_;  // by place
  std::set<std::string> covered_;             // files that are in the collection
  std::set<std::string> archives_;            // that hold images
  bool explains_ = true;                      // what is kept is not read again
};

}  // namespace opifex::jobs
