/// The data files of an installed game: blocks of 4096 bytes with their hashes between them (README).
#pragma once

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/volumes/stfs/content_header.hpp"

namespace opifex::god {

inline constexpr std::uint64_t kBlock = 0x1000;
inline constexpr std::uint64_t kGroupBlocks = 204, kFileGroups = 203, kFileBlocks = kGroupBlocks * kFileGroups;
inline constexpr std::uint64_t kFullFile = (1 + kFileGroups * (1 + kGroupBlocks)) * kBlock;
inline constexpr std::size_t kHashBytes = 20;

/// Where in its file a group begins: its hash block.
constexpr std::uint64_t group_at(std::uint64_t group) { return (1 + group * (1 + kGroupBlocks)) * kBlock; }
/// Data blocks in a file of so many bytes; a last block that is cut counts.
std::uint64_t data_blocks(std::uint64_t file_bytes);

struct DataFile {
  std::filesystem::path path;
  SourcePtr source = {};  ///< null: it is missing
};

/// The data blocks alone, one after the other. Reading what a missing file held is an Error (missing_part).
SourcePtr stored_stream(const std::vector<DataFile>& files);

/// Which sector of the disc is which of the stream.
struct Mapping {
  bool enhanced = false;
  std::uint64_t start = 0;  ///< enhanced: the stream's second block is the disc's sector 2 * start
  std::string believed;     ///< "little", "big", "zero": what of the header fitted; "found", "unproved"
};
/// Told by the data: the volume's mark, and a tree that fits. Nothing if there is no mark, or no place for the tree.
std::optional<Mapping> find_mapping(const SourcePtr& stream, const ContentHeader& header);
/// The game partition from sector 0; what is not stored is a hole.
SourcePtr open_disc(SourcePtr stream, const Mapping& mapping);

/// Every hash of every file, on all threads; what is wrong, with the sectors it hits.
std::vector<ContainerProblem> verify(const std::vector<DataFile>& files, const ContentHeader& header,
                                     const std::optional<Mapping>& mapping, JobContext& context);

/// What is written: the outputs from the last data file to the first, then the header.
struct NewContainer {
  SourcePtr game;  ///< partition from sector 0
  Bytes header;    ///< all but what depends on the data
  std::filesystem::path folder;
  std::string name;
};
std::vector<PlannedOutput> plan_outputs(NewContainer container);

}  // namespace opifex::god
