/// What every format declares, and the registry that lists them. Adding a format: its folder and one line.
#pragma once

#include <algorithm>
#include <filesystem>
#include <span>
#include <string_view>
#include <variant>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/image/image.hpp"
#include "opifex/core/image/loss.hpp"
#include "opifex/core/image/platform.hpp"
#include "opifex/core/image/settings.hpp"
#include "opifex/core/image/sheet_text.hpp"
#include "opifex/core/io/file_space.hpp"
#include "opifex/core/io/output.hpp"

namespace opifex {

/// What a format can hold. The planner derives every loss from these and from what the source has.
struct Capabilities {
  bool audio = false;             ///< audio tracks
  bool track_list = false;        ///< more than one track, with their boundaries
  bool form2 = false;             ///< Mode 2 Form 2 payloads
  bool raw_headers = false;       ///< sectors that cannot be regenerated from their user data
  bool subchannel = false;        ///< CD+G tracks of 2448-byte sectors
  bool mixed_subchannel = false;  ///< ... beside tracks without
  bool any_subchannel = false;    ///< behind the sectors of every kind of track
  bool sessions = false;
  bool areas = false;          ///< the two areas of a GD-ROM, with the gap between them
  bool unstored_gaps = false;  ///< gaps by length only; else they are written out
  bool cd_text = false;
  bool catalogue = false;       ///< catalogue number and ISRC
  bool marks = false;           ///< indexes from 02, track flags
  bool first_pregap = false;    ///< stored sectors before LBA 0
  bool blocks = false;          ///< discs that are no CDs: 2048-byte blocks
  bool packages = false;        ///< packages of files, laid out as their console has them
  bool game_partition = false;  ///< of an Xbox disc the game partition alone: what surrounds it is not kept
  bool roms = false;            ///< of cartridges
  bool floppies = false;        ///< blocks of floppies
  bool saves = false;           ///< of memory cards
  bool whole_discs = false;     ///< a shorter image comes back filled up with zeros to the size of a disc
};

/// How much time a packing format may spend on getting smaller.
enum class Effort { fast, normal, best };

/// Sectors of the source image in a given form.
struct SectorRun {
  cd::Lba lba = 0;
  std::uint32_t sectors = 0;
  SectorForm form = SectorForm::raw;
};
/// Bytes of a source, copied.
struct SourceRun {
  SourcePtr source;
  std::uint64_t offset = 0, size_bytes = 0;
};
/// An output that makes its own bytes: a container whose size is known only when it is written.
class Packer {
 public:
  virtual ~Packer() = default;
  virtual std::uint64_t source_bytes() const = 0;  ///< that go in
  virtual std::uint64_t most_bytes() const = 0;    ///< that may come out
  virtual void write(Output& file, JobContext& context) const = 0;
};
using PackerPtr = std::shared_ptr<const Packer>;
/// A packer stands alone in its output.
using Piece = std::variant<Bytes, SectorRun, SourceRun, PackerPtr>;

/// How the parts of a file that is cut are named.
struct PartNaming {
  /// Of part `part`, from 0, of STEM.EXTENSION; the extension with its dot.
  std::string (*name)(std::string_view stem, std::string_view extension, std::size_t part);
  std::size_t most = 999;  ///< parts there are names for
  /// True for files that are named so whatever format has their extension; null: that alone tells.
  bool (*knows)(const ByteSource& whole) = nullptr;
};

struct PlannedOutput {
  std::filesystem::path path;
  std::vector<Piece> pieces;
  std::uint64_t size_bytes = 0;            ///< of a packer: at most
  std::uint64_t part_bytes = 0;            ///< it is cut into files of at most so many; 0: it is one file
  const PartNaming* part_names = nullptr;  ///< null: as the format with its extension has them
};

/// What a writer is going to do: pure data, so that a plan shown and a plan carried out cannot differ.
struct WritePlan {
  /// The output that stands for all: the sheet, the header.
  const PlannedOutput& leading() const { return outputs.back(); }

  /// In the order they are put in place: data first, and last the one that opens the image.
  std::vector<PlannedOutput> outputs;
  std::vector<std::string> steps;  ///< for people
  std::vector<Warning> warnings = {};
  bool copies = false;                             ///< every output is bytes of the source's files as they are
  std::vector<std::filesystem::path> needed = {};  ///< other files without which the outputs cannot be read
};

struct OpenOptions {
  bool allow_missing = false;  ///< a set with absent or short files opens as far as it can be read, `complete` false
  Settings settings = {};      ///< the user's word where a format guesses: those of Format::read_settings
  /// Files an image may need beside its own, wherever they are: WritePlan::needed of one that was just written.
  std::vector<std::filesystem::path> needed = {};
  std::string pick = {};               ///< which image of several in one file: a pattern for its id
  std::filesystem::path archive = {};  ///< the archive whose members `files` are
  KeyRingPtr keys = {};                ///< the user's; null: none given
  FileSpacePtr files = {};             ///< where the image and what it names are; null: the folders of this computer

  const FileSpace& space() const { return files ? *files : *host_files(); }
};

/// How the files of an image lie.
enum class Shape {
  file,   ///< one file
  sheet,  ///< a text file that names the files with the data
  tree    ///< a header and a folder of data beside it, with names of the format's own
};

/// What the files with the data are, byte for byte.
enum class Stored {
  own_way,  ///< something of the format's own
  sectors,  ///< all sectors of a CD, raw, one after the other
  tracks,   ///< the same, in a file for each track
  blocks    ///< all blocks of a disc, one after the other
};

enum class LineEnd { lf, crlf };

/// What a file with several images in it holds.
struct ImageListing {
  std::string_view format = {}, platform = {};
  struct Item {
    std::size_t slot = 0;
    std::string id, title;         ///< of the image's own header; the id fits OpenOptions::pick
    std::uint64_t size_bytes = 0;  ///< of the image
    std::uint64_t stored_bytes = 0;
  };
  std::uint64_t block_bytes = 0, blocks = 0;  ///< of the file
  std::vector<Item> images = {};
  std::vector<Warning> warnings = {};
};

struct Format {
  std::string_view id;                           ///< lower case, with hyphens
  std::string_view title;                        ///< "cue sheet, a bin for each track"
  std::span<const std::string_view> extensions;  ///< lower case with dot; the first is given to outputs
  /// Bits of proof found in the first bytes: 0 = not this format, 32 = a four-byte magic matched. The highest answer
  /// wins; the name may only break ties.
  int (*probe)(const ByteSource& source, std::string_view file_name);
  /// Error if the file is not sound enough to be read.
  Image (*open)(const std::filesystem::path& path, const OpenOptions& options);
  Capabilities holds;
  /// With its dot, in lower case. Formats whose files have none own none.
  bool owns(std::string_view extension) const {
    return !extension.empty() && std::find(extensions.begin(), extensions.end(), extension) != extensions.end();
  }
  /// `out` is the leading file (the cue of a set). Null: the format is only read.
  WritePlan (*plan_write)(const Image& image, const std::filesystem::path& out, const Settings& settings);
  Shape shape = Shape::file;
  Stored stored = Stored::own_way;
  std::uint64_t unit_bytes = 0;                        ///< it leaves out empty units of that size; 0: it does not
  const Setting* unit_setting = nullptr;               ///< chooses another size; null: there is only the one
  std::span<const Setting* const> settings = {};       ///< that plan_write reads
  std::span<const Setting* const> read_settings = {};  ///< that open reads
  /// True if these say that a file is of this format: then it is not probed. Null: none does.
  bool (*is_told)(const Settings& settings) = nullptr;
  const PartNaming* part_names = nullptr;    ///< of its files; null: NAME.EXT.001 ..
  std::span<const Platform> platforms = {};  ///< that the format alone tells
  std::string_view volume = {};              ///< the file system that images of folders in this format have
  /// Of sheets: the text with the names of the files. Error (refused) as for opening it. Null: files found by name.
  SheetText (*read_sheet)(const std::filesystem::path& path) = nullptr;
  /// Of sheets: this text in the shape that known lists have, with other names for its files. Nothing if it has another
  /// number of them; Error (refused) if it is no such sheet. Null: no shape is usual.
  std::optional<std::string> (*usual_sheet)(const std::string& text, const std::vector<std::string>& names,
                                            LineEnd end) = nullptr;
  /// Of a format whose files may hold several images: all of them. Error (refused) as for opening it. Null: one a file.
  ImageListing (*list)(const SourcePtr& file) = nullptr;
  /// Losses that only this format has; null: those of its capabilities are all.
  std::vector<Loss> (*own_losses)(const Image& image, const Settings& settings) = nullptr;
  /// The ending that an output gets, one of `extensions`; null: the first.
  std::string_view (*extension_of)(const Image& image, const Settings& settings) = nullptr;

  /// With its dot.
  std::string_view output_extension(const Image& image, const Settings& chosen) const {
    return extension_of ? extension_of(image, chosen) : extensions.front();
  }

  /// Sectors or blocks without a word about what they are.
  bool is_bare() const { return shape == Shape::file && stored != Stored::own_way; }
};

/// All formats, in order of precedence at equal proof.
std::span<const Format* const> formats();
/// Null if no format has this id.
const Format* find_format(std::string_view id);

/// True if a format has the extension of this name. Many other files may have it, too.
bool is_image_name(const std::filesystem::path& path);
/// True if files of this name are sheets: a text that names the files with the data.
bool is_sheet_name(const std::filesystem::path& path);
/// The format of files that have neither sheet nor header.
const Format& bare_format(Stored stored);
/// What a disc is written as where nobody names a format: all sectors of a CD with a sheet, or all blocks.
const Format& usual_format(bool is_cd);
/// A sheet with files that are stored so.
const Format& sheet_format(Stored stored);

/// The format whose proof is the strongest; Error (refused, "unknown_format") if none fits.
const Format& probe_format(const std::filesystem::path& path, const FileSpace& files = *host_files());
/// All images of a file that holds several; nothing if it holds one, or is no image. Error as for opening it.
std::optional<ImageListing> list_images(const std::filesystem::path& path, const FileSpace& files = *host_files());
/// Probes and opens. A folder or missing file is an Error that says so.
Image open_image(const std::filesystem::path& path, const OpenOptions& options = {});

/// Error (refused, "track_gap") if sectors between two of these tracks are on no track: for formats whose sectors
/// follow each other.
void refuse_holes(const Image& image, std::span<const cd::Track> tracks);

/// Sum of the pieces.
std::uint64_t size_of(const std::vector<Piece>& pieces, const Image& image);

}  // namespace opifex
