// RIFF WAVE and AIFF as places where audio tracks lie.
#include <algorithm>

#include "opifex/core/cd/sector.hpp"
#include "opifex/core/formats/cue/files.hpp"

namespace opifex::cue {
namespace {

constexpr std::size_t kChunkHead = 8;
constexpr unsigned kMaxChunks = 4096;

[[noreturn]] void unsupported(const ByteSource& file, std::string found) {
  throw Error({.code = "unsupported_wave",
               .what = "this audio file cannot be a CD track",
               .file = file.name(),
               .found = std::move(found),
               .expected = "16-bit stereo PCM at 44 100 Hz"});
}

AudioFile make(const SourcePtr& file, std::uint64_t at, std::uint64_t size, bool big_endian) {
  if (at > file->size() || size > file->size() - at)
    throw Error({.code = "truncated",
                 .what = "the audio file is cut short",
                 .file = file->name(),
                 .offset = at,
                 .found = fmt::format("{} bytes of samples", at > file->size() ? 0 : file->size() - at),
                 .expected = fmt::format("{}", size),
                 .hint = "copy it again from where it came"});
  AudioFile audio;
  audio.big_endian = big_endian;
  SourcePtr samples = slice_source(file, at, size);
  const std::uint64_t over = size % cd::kRawBytes;
  audio.padded = over != 0;
  audio.samples = audio.padded
                      ? concat_source({samples, memory_source(Bytes(cd::kRawBytes - over), file->name())}, file->name())
                      : samples;
  return audio;
}

}  // namespace

AudioFile open_wave(const SourcePtr& file) {
  const Bytes head = read_up_to(*file, 0, 12);
  if (head.size() < 12 || as_text(head).substr(0, 4) != "RIFF" || as_text(head).substr(8, 4) != "WAVE")
    unsupported(*file, "no RIFF WAVE header");
  bool format_seen = false;
  std::uint64_t at = 12;
  for (unsigned chunk = 0; chunk < kMaxChunks; ++chunk) {
    const Bytes bytes = read_up_to(*file, at, kChunkHead);
    if (bytes.size() < kChunkHead) break;
    FieldReader reader{bytes, file->name(), at};
    const std::string id(as_text(reader.take(4, "chunk id")));
    std::uint64_t size = reader.little_endian<std::uint32_t>("chunk size");
    at += kChunkHead;
    if (id == "fmt ") {
      const Bytes body = read_up_to(*file, at, static_cast<std::size_t>(std::min<std::uint64_t>(size, 40)));
      FieldReader fields{body, file->name(), at};
      unsigned tag = fields.little_endian<std::uint16_t>("format tag");
      const unsigned channels = fields.little_endian<std::uint16_t>("channels");
      const auto rate = fields.little_endian<std::uint32_t>("sample rate");
      fields.take(6, "byte rate and block size");
      const unsigned bits = fields.little_endian<std::uint16_t>("bits a sample");
      constexpr unsigned kPcm = 1, kExtensible = 0xFFFE;
      if (tag == kExtensible) {
        fields.take(8, "extension");
        tag = fields.little_endian<std::uint16_t>("subtype");
      }
      if (tag != kPcm || channels != 2 || rate != 44100 || bits != 16)
        unsupported(*file, fmt::format("format {}, {} channels, {} Hz, {} bit", tag, channels, rate, bits));
      format_seen = true;
    } else if (id == "data") {
      if (!format_seen) unsupported(*file, "no fmt chunk before the samples");
      const bool to_the_end = size == 0 || size == 0xFFFFFFFF;  // written by a program that could not seek back
      return make(file, at, to_the_end ? file->size() - at : size, false);
    }
    at += size + (size & 1);
  }
  unsupported(*file, "no samples");
}

AudioFile open_aiff(const SourcePtr& file) {
  const Bytes head = read_up_to(*file, 0, 12);
  const std::string_view kind = head.size() < 12 ? std::string_view{} : as_text(head).substr(8, 4);
  if (head.size() < 12 || as_text(head).substr(0, 4) != "FORM" || (kind != "AIFF" && kind != "AIFC"))
    unsupported(*file, "no AIFF header");
  const bool compressed_form = kind == "AIFC";
  bool common_seen = false, big_endian = true;
  std::uint64_t at = 12;
  for (unsigned chunk = 0; chunk < kMaxChunks; ++chunk) {
    const Bytes bytes = read_up_to(*file, at, kChunkHead);
    if (bytes.size() < kChunkHead) break;
    FieldReader reader{bytes, file->name(), at};
    const std::string id(as_text(reader.take(4, "chunk id")));
    const std::uint64_t size = reader.big_endian<std::uint32_t>("chunk size");
    at += kChunkHead;
    if (id == "COMM") {
      const Bytes body = read_up_to(*file, at, static_cast<std::size_t>(std::min<std::uint64_t>(size, 22)));
      FieldReader fields{body, file->name(), at};
      const unsigned channels = fields.big_endian<std::uint16_t>("channels");
      fields.take(4, "frames");
      const unsigned bits = fields.big_endian<std::uint16_t>("bits a sample");
      // 44 100 as an 80-bit float: 400E AC44 and zeros.
      const std::string rate = hex(fields.take(10, "sample rate"));
      const std::string coding(compressed_form ? as_text(fields.take(4, "coding")) : std::string_view("NONE"));
      big_endian = coding == "NONE" || coding == "twos";
      if (channels != 2 || bits != 16 || rate != "400eac44000000000000" || (!big_endian && coding != "sowt"))
        unsupported(*file, fmt::format("{} channels, {} bit, rate {}, coding {}", channels, bits, rate, coding));
      common_seen = true;
    } else if (id == "SSND") {
      if (!common_seen) unsupported(*file, "no COMM chunk before the samples");
      const Bytes body = read_up_to(*file, at, 8);
      FieldReader fields{body, file->name(), at};
      const std::uint64_t skip = fields.big_endian<std::uint32_t>("sample offset");
      if (size < 8 + skip) unsupported(*file, "samples that end before they begin");
      return make(file, at + 8 + skip, size - 8 - skip, big_endian);
    }
    at += size + (size & 1);
  }
  unsupported(*file, "no samples");
}

}  // namespace opifex::cue
